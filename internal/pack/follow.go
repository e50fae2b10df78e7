package pack

import (
	"context"
	"fmt"
	"path"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"havvel/internal/export"
	"havvel/internal/export/link"
	"havvel/internal/fault"
)

// An edit puts text in the place of length bytes.
type edit struct {
	at, length int
	text       string
}

// apply returns data with edits made. Of two in the same place the second is dropped.
func apply(data []byte, edits []edit) ([]byte, error) {
	slices.SortStableFunc(edits, func(a, b edit) int { return a.at - b.at })
	var out []byte
	done := 0
	for _, e := range edits {
		if e.at < done {
			continue
		}
		if e.at+e.length > len(data) {
			return nil, fmt.Errorf("it changed while it was packed")
		}
		out = append(append(out, data[done:e.at]...), e.text...)
		done = e.at + e.length
	}
	return append(out, data[done:]...), nil
}

// follow changes the links of all items to where their targets went, and works out the bytes of items that changed.
func follow(ctx context.Context, p *Plan) error {
	put := map[*Item]map[int]string{} // what stands where, by now
	for _, l := range p.build.Links {
		from, to := p.of[l.From], p.of[l.To]
		if from == nil || l.Use == "page" && l.To != nil && l.Path != l.To.Path && l.Result == export.Found {
			continue // left out, or a link to a folder
		}
		edits, err := p.edits(l, to)
		if err != nil {
			return err
		}
		for _, e := range edits {
			in := p.of[e.In]
			if in == nil {
				continue
			}
			if text, ok := put[in][e.Offset]; ok {
				if text != e.Text && to != nil && to.Name != p.build.Inside(l.To) {
					return p.lost(l, to)
				}
				continue
			}
			if put[in] == nil {
				put[in] = map[int]string{}
			}
			put[in][e.Offset] = e.Text
			in.edits = append(in.edits, edit{e.Offset, e.Len, e.Text})
		}
	}
	return p.workAll(ctx)
}

// workAll brings all items into their final form, several at a time.
func (p *Plan) workAll(ctx context.Context) error {
	var total int64
	for _, it := range p.Items {
		if it.recoded() {
			total += it.From.Decoded
		}
	}
	if total > 0 {
		p.to.Report.Begin("compressing", total)
		defer p.to.Report.End()
	}
	work, ctx := errgroup.WithContext(ctx)
	work.SetLimit(runtime.GOMAXPROCS(0))
	for _, it := range p.Items {
		work.Go(func() error {
			if err := p.work(ctx, it); err != nil {
				return fmt.Errorf("packing %s: %w", it.From.Path, err)
			}
			return nil
		})
	}
	return work.Wait()
}

// recoded reports whether an item's bytes are compressed anew, or unpacked.
func (it *Item) recoded() bool {
	return it.From != nil && len(it.edits) == 0 && (it.anew || it.encoding != it.From.Encoding)
}

// edits are those after which a link leads to its item.
func (p *Plan) edits(l export.Link, to *Item) ([]export.Edit, error) {
	fixes := !slices.Contains(p.to.Without, "names")
	moved := to != nil && to.Name != p.build.Inside(l.To)
	if root, reason, ok := p.build.FromRoot(l); ok && fixes && !moved {
		return root, p.rooted(l, reason)
	}
	based := l.Result == export.Absolute && (!fixes || !strings.HasPrefix(l.Target, "/")) // fixed where the page says what its base is
	if to == nil || based || !moved && !(fixes && l.Result == export.OtherCase) {
		return nil, nil
	}
	edits, _, ok := p.build.Rewritten(l, p.build.Base+to.Name)
	if !ok && moved {
		return nil, p.lost(l, to)
	}
	return edits, nil // one that can't be made is an improvement; check says what is wrong with the link
}

// rooted is the error for a link from the host's root that is sure to be followed, and can't be made relative for a reason; "" for none.
func (p *Plan) rooted(l export.Link, reason string) error {
	if reason == "" || l.Certainty == link.Possible || p.build.Reach(l.From) < export.Loaded {
		return nil
	}
	return unfollowed(
		l.From.Path,
		l.Line,
		l.Column,
		"%q starts at the host's root, and portals serve a game from a folder of its own; it can't be made relative, since %s",
		l.Target,
		reason,
	).
		Then("set the base path to \"./\" in the engine's or bundler's export settings")
}

func (p *Plan) lost(l export.Link, to *Item) error {
	return unfollowed(l.From.Path, l.Line, l.Column,
		"it names %s as %q, which is put together from parts; that %s can't be followed with certainty", l.To.Path, l.Target, p.renamed[to])
}

// unfollowed is the error for a change that can't be made, since not every place that it concerns can be followed; line and column are 0
// where it stands nowhere.
func unfollowed(file string, line, column int, format string, args ...any) *fault.Error {
	f := fault.New(fault.No, format, args...)
	f.At = fault.Position{File: file, Line: line, Column: column}
	return f
}

// work brings an item's bytes into their final form: unpacked where they must be changed, changed, and packed again.
func (p *Plan) work(ctx context.Context, it *Item) error {
	was := ""
	if it.From != nil {
		was = it.From.Encoding
	}
	if it.recoded() {
		return p.made.recode(ctx, it, was, p.to.Report)
	}
	if len(it.edits) == 0 {
		return nil
	}
	data, err := it.decoded(ctx, was)
	if err != nil {
		return err
	}
	if data, err = apply(data, it.edits); err != nil {
		return err
	}
	it.edits = nil
	it.text, err = encoded(data, it.encoding)
	return err
}

// folderOf is the folder of a name, "" for the root.
func folderOf(name string) string {
	if dir := path.Dir(name); dir != "." {
		return dir + "/"
	}
	return ""
}
