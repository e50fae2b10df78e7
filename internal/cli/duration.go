package cli

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// duration is a flag's length of time, which may be in days.
type duration time.Duration

func (s *duration) String() string {
	d := time.Duration(*s)
	switch {
	case d == 0:
		return ""
	case d%(24*time.Hour) == 0:
		return fmt.Sprintf("%dd", d/(24*time.Hour))
	}
	text := d.String()
	for _, none := range []string{"m0s", "h0m"} { // its last part, where that is nothing
		if strings.HasSuffix(text, none) {
			text = text[:len(text)-2]
		}
	}
	return text
}

// Set reads a length such as 7d, 36h or 90m.
func (s *duration) Set(text string) error {
	if days, ok := strings.CutSuffix(text, "d"); ok {
		n, err := strconv.Atoi(days)
		if err != nil || n < 0 || n > 36_500 {
			return fmt.Errorf("%q is no number of days; write 7d, 36h or 90m", text)
		}
		*s = duration(time.Duration(n) * 24 * time.Hour)
		return nil
	}
	d, err := time.ParseDuration(text)
	if err != nil || d < 0 {
		return fmt.Errorf("%q is no length of time; write 7d, 36h or 90m", text)
	}
	*s = duration(d)
	return nil
}

// Type is what help calls it.
func (s *duration) Type() string { return "time" }
