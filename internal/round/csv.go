package round

import (
	"encoding/csv"
	"io"
	"strconv"
	"strings"
	"time"
)

// columns are those of what a Table writes.
var columns = []string{
	"session",
	"opened",
	"class",
	"simulated",
	"n",
	"at_ms",
	"kind",
	"event",
	"level",
	"won",
	"name",
	"value",
	"fps",
	"message",
	"question",
	"answer",
}

// A Table writes what came back as a table, a row for each event (RFC 4180).
type Table struct{ w *csv.Writer }

// NewTable begins a table with its heading.
func NewTable(w io.Writer) (*Table, error) {
	t := &Table{csv.NewWriter(w)}
	return t, t.w.Write(columns)
}

// Add writes the rows of a session.
func (t *Table) Add(s *Session) error {
	opened, class, simulated := s.Opened.UTC().Format(time.RFC3339), s.Device.Class(), strconv.FormatBool(s.Simulated)
	for _, e := range s.Events {
		d := e.Data
		row := []string{s.ID, opened, class, simulated, strconv.Itoa(e.N), strconv.FormatInt(e.At, 10), e.Kind}
		for _, v := range []loose{d.Event, d.Level, d.Won, d.Name, d.Value, d.FPS, d.Message, d.Question, d.Answer} {
			row = append(row, harmless(string(v)))
		}
		if err := t.w.Write(row); err != nil {
			return err
		}
	}
	return nil
}

// Close writes what is left.
func (t *Table) Close() error {
	t.w.Flush()
	return t.w.Error()
}

// harmless keeps a spreadsheet from taking what a stranger wrote for a formula.
func harmless(v string) string {
	if v == "" || !strings.ContainsRune("=+-@\t\r", rune(v[0])) {
		return v
	}
	if _, err := strconv.ParseFloat(v, 64); err == nil {
		return v
	}
	return "'" + v
}
