package pack

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"havvel/internal/export"
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
	for _, l := range p.build.Links {
		from, to := p.of[l.From], p.of[l.To]
		if from == nil || to == nil || l.Use == "page" && l.Path != l.To.Path && l.Result == export.Found {
			continue // left out, or a link to a folder
		}
		target := p.target(l, to)
		if target == l.Target {
			continue
		}
		text, ok := l.Rewritten(target)
		if !ok && to.Name == p.build.Inside(l.To) {
			continue // an improvement that can't be made; check says what is wrong with the link
		}
		if !ok {
			return p.lost(l, to)
		}
		for _, at := range append([]int{l.Offset}, l.Again...) {
			from.edits = append(from.edits, edit{at, l.Len, text})
		}
	}
	for _, it := range p.Items {
		if err := p.work(ctx, it); err != nil {
			return fmt.Errorf("packing %s: %w", it.From.Path, err)
		}
	}
	return nil
}

// target is what a link must say so that it leads to an item.
func (p *Plan) target(l export.Link, to *Item) string {
	mends := !slices.Contains(p.to.Without, "names")
	atRoot := l.Result == export.Absolute
	switch {
	case atRoot && (!mends || !strings.HasPrefix(l.Target, "/")):
		return l.Target // mended where the page says what its base is
	case to.Name == p.build.Inside(l.To) && l.Result != export.OtherCase && !atRoot:
		return l.Target
	case l.Result == export.OtherCase && !mends && to.Name == p.build.Inside(l.To):
		return l.Target
	}
	return l.Named(p.build.Base + to.Name)
}

func (p *Plan) lost(l export.Link, to *Item) error {
	return &Unfollowed{
		File: l.From.Path, Line: l.Line, Column: l.Column,
		Reason: fmt.Sprintf("it names %s as %q, which is put together from parts; that %s can't be followed with certainty", l.To.Path, l.Target, p.renamed[to]),
	}
}

// Unfollowed says that a change can't be made, since not every place that it concerns can be followed.
type Unfollowed struct {
	File         string
	Line, Column int // from 1; 0 when there is none
	Reason       string
}

func (e *Unfollowed) Error() string {
	at := e.File
	if e.Line > 0 {
		at += fmt.Sprintf(":%d:%d", e.Line, e.Column)
	}
	return at + ": " + e.Reason
}

// work brings an item's bytes into their final form: unpacked where they must be changed, changed, and packed again.
func (p *Plan) work(ctx context.Context, it *Item) error {
	was := ""
	if it.From != nil {
		was = it.From.Encoding
	}
	if len(it.edits) == 0 {
		if it.encoding == was {
			return nil
		}
		return p.made.recode(ctx, it, was)
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
