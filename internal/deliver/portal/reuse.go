package portal

import (
	"context"
	"fmt"
	"io"
	"math"

	"havvel/internal/pieces"
	"havvel/internal/progress"
	"havvel/internal/rulebook/expression"
)

// leastReused is how large a file must be for its parts to be looked for: below that they cost more time than they save.
const leastReused = 1 << 20

// plan finds out which parts of the file the portal has already.
func (u *resumableUpload) plan(ctx context.Context, values expression.Values) error {
	if u.turn.Reuse == nil || u.whole.Bytes < leastReused {
		return nil
	}
	list, err := u.turn.Reuse.Value(values)
	if err != nil {
		return err
	}
	sketch := u.s.Sketches.Find(u.whole.SHA256)
	if sketch == nil {
		if sketch, err = pieces.Draw(progress.Reader(ctx, io.NewSectionReader(u.file, 0, int64(u.whole.Bytes)), progress.None)); err != nil {
			return err
		}
		u.s.Sketches.Keep(u.whole.SHA256, sketch) // else all of the next one travels
	}
	var from []pieces.Source
	sums, _ := list.([]any)
	for _, v := range sums {
		sum := fmt.Sprint(v)
		if known := u.s.Sketches.Find(sum); known != nil {
			from = append(from, pieces.Source{Name: sum, Sketch: known})
		}
	}
	j := pieces.Join(pieces.Plan(sketch, from))
	if len(j.Sources) > 0 {
		u.use(&j)
	}
	return nil
}

// use has those bytes travel that a joint doesn't take from elsewhere; all of them for nil.
func (u *resumableUpload) use(j *pieces.Joint) {
	size := int64(u.whole.Bytes)
	if u.joint, u.from = j, u.file; j != nil {
		size, u.from = j.Travels(), j.Travelling(u.file)
	}
	u.s.Report.Advance(u.size - size)
	u.size = size
}

// agree takes over what the portal knows of an upload that was made before: which bytes it waits for.
func (u *resumableUpload) agree(metadata string) error {
	if u.turn.Reuse == nil {
		return nil
	}
	text := pieces.InMetadata(metadata)
	if text == "" {
		u.use(nil)
		return nil
	}
	var j pieces.Joint
	err := j.UnmarshalText([]byte(text))
	if err == nil {
		err = j.Verify(int64(u.whole.Bytes), func(string) int64 { return math.MaxInt64 })
	}
	if err == nil {
		u.use(&j)
	}
	return err
}

// metadata is what the request says that makes the upload; "" for nothing.
func (u *resumableUpload) metadata() string {
	if u.joint == nil {
		return ""
	}
	text, _ := u.joint.MarshalText() // numbers and sums
	return pieces.Metadata(string(text))
}
