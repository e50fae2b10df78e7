// Package pack turns a build into what a destination wants to be handed: first a plan that says what
// changes and why, then the bytes. It never writes into the export. What is wrong with a build is
// check's business; compressing is left to pack/deflate.
package pack

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"sync"

	"havvel/internal/export"
	"havvel/internal/export/script"
	"havvel/internal/fault"
	"havvel/internal/finding"
	"havvel/internal/hooks"
	"havvel/internal/pack/deflate"
	"havvel/internal/progress"
	"havvel/internal/rulebook"
)

// A Plan says what is handed over.
type Plan struct {
	Items []*Item // in the order of their names
	Steps []Step  // what differs from the export, in the order in which it was decided

	to      For
	build   *export.Build
	entry   *Item
	of      map[*export.File]*Item // that a file became, also one whose place another takes
	renamed map[*Item]string       // why an item has another name than its file
	cache   *Cache
	made    *making
	result  *export.Build // what is handed over, read as a build
	inside  *export.Build // what one page holds, where that is handed over; else nil
	left    []Origin      // of what stays behind
	origins []Origin      // of what one page holds, where that is handed over
}

// An Item is one file that is handed over.
type Item struct {
	Name string       // where it goes
	From *export.File // where it comes from; nil for what pack adds

	by       []string                      // the steps that changed it
	was      shape                         // before the step that runs now
	tracked  bool                          // likewise: it was there
	anew     bool                          // it is compressed again, although it has its encoding
	encoding string                        // that it has in the end: "gzip", "br" or none
	edits    []edit                        // of its text
	text     []byte                        // its bytes, where they differ from those of From, or
	bytes    int64                         // how many bytes open gives
	open     func() (io.ReadCloser, error) // opens its bytes, where they were worked out before
}

// A Step is one thing that is handed over in another form than it was exported.
type Step struct {
	Name  string `json:"step"`  // which of Steps it is of
	What  string `json:"what"`  // what changes
	Why   string `json:"why"`   // what would go wrong without it
	Bytes int64  `json:"bytes"` // how much larger that makes the build; negative when smaller
}

// For says whom a plan is for, and what the developer wants.
type For struct {
	Destination string
	Rules       *rulebook.Rulebook // nil for nobody in particular
	Accepts     []finding.Accept

	Title, Short, Version string         // of the game
	Heard                 []string       // calls that a trial of the build heard
	Inferred              hooks.Inferred // what the adapter finds out by itself
	Plants                bool           // scripts that the rulebook wants may be planted
	Encode                string         // precompressed files are to be: "" as they are, or else "plain", "gzip" or "br"
	Smallest              bool           // the archive is made as small as can be, which takes some times as long
	Slim                  bool           // files may be made smaller without loss
	LeaveOut              []string
	LeaveUnused           bool
	Without               []string          // names of steps that are not to be taken
	Unsummed              bool              // nobody asks for the SHA-256 of a zip, which takes longer than writing it
	AcceptErrors          bool              // an archive with errors is written, too
	Front                 *Front            // nil to leave the page as it is
	Until                 func() error      // is waited for before an archive gets its name; an error keeps it from that
	Report                progress.Reporter // of what takes long before anything is written; nil for nobody
}

// A Kind of step: its name, and what it does.
type Kind struct {
	Name string
	Does string
	run  func(context.Context, *Plan) error
}

// Kinds lists the steps that can be left out, in the order in which they are taken.
func Kinds() []Kind {
	return slices.DeleteFunc(sequence(), func(k Kind) bool { return k.Name == "" })
}

// sequence lists what makes a plan; each adds to the plan what it changes. What has no name is always done. A new step is a file, and a
// line here.
func sequence() []Kind {
	return []Kind{
		{"entry", "the entry page goes to the root, under the name that hosts look for", enter},
		{"leave-out", "junk, and what havvel.toml names, stays behind", leaveOut},
		{"names", "links and names that only work on the developer's disk are fixed", fixNames},
		{"recode", "files that were compressed before get a form that the destination can serve", recode},
		{"", "links follow what got another name until here", follow},
		{"slim", "pictures, sounds and texts become smaller without loss, when asked for", slim},
		{"front", "the page gets the title, icon, colours and loading bar of havvel.toml", front},
		{"plant", "the portal's scripts go into the entry page", plant},
		{"stamp", "a small file says which build this is", stamp},
		{"", "files that are named by their hashes are named by those that they have then", renew},
	}
}

// A Cache keeps what was worked out, so that the next plan and the next archive pay only for what changed.
type Cache struct {
	folder   string
	deflated *deflate.Store
	made     *making
	mu       sync.Mutex
	last     done
}

// Open returns the cache in a folder, which is made if need be, and can be deleted at any time. Close it in the end. A folder that
// can't be written to is no error: Unkept says so, and all is worked out anew.
func Open(folder string) (*Cache, error) {
	store, err := deflate.Open(folder)
	return &Cache{folder: folder, deflated: store, made: &making{folder: filepath.Join(folder, "made")}}, err
}

// Close lets go of the cache.
func (c *Cache) Close() error { return errors.Join(c.deflated.Close(), c.made.close()) }

// Unkept says why what is worked out can't be kept, so that it is worked out anew each time; nil where it is kept.
func (c *Cache) Unkept() error { return cmp.Or(c.deflated.Spare(), c.made.failed) }

// Plan makes a plan. It reads the files that change, and writes nothing but what it keeps in the cache. Several plans may be
// written at once.
func (c *Cache) Plan(ctx context.Context, b *export.Build, to For) (*Plan, error) {
	if b.Entry == nil {
		return nil, fault.New(fault.No, "can't pack %s: there is no HTML page in it that a host could open", b.Path)
	}
	if to.Report == nil {
		to.Report = progress.None
	}
	p := &Plan{to: to, build: b, of: map[*export.File]*Item{}, renamed: map[*Item]string{}, cache: c, made: c.made}
	for _, f := range b.Parts() {
		it := &Item{Name: b.Inside(f), From: f, encoding: f.Encoding}
		p.Items, p.of[f] = append(p.Items, it), it
	}
	p.entry = p.of[b.Entry]
	for _, k := range sequence() {
		if k.Name != "" && slices.Contains(to.Without, k.Name) {
			continue
		}
		if err := p.tracked(k.Name, func() error { return k.run(ctx, p) }); err != nil {
			return nil, err
		}
	}
	if err := p.resolve(ctx); err != nil {
		return nil, err
	}
	return p, nil
}

func (p *Plan) note(kind string, bytes int64, why, format string, args ...any) {
	p.Steps = append(p.Steps, Step{Name: kind, What: fmt.Sprintf(format, args...), Why: why, Bytes: bytes})
}

// drop takes an item out of the plan.
func (p *Plan) drop(it *Item) {
	p.Items = slices.DeleteFunc(p.Items, func(o *Item) bool { return o == it })
	delete(p.of, it.From)
}

// named returns the item of that name, or nil.
func (p *Plan) named(name string) *Item {
	for _, it := range p.Items {
		if it.Name == name {
			return it
		}
	}
	return nil
}

// resolve brings the items into their order and reads what they are together as a build.
func (p *Plan) resolve(ctx context.Context) error {
	slices.SortFunc(p.Items, func(a, b *Item) int { return cmpNames(a.Name, b.Name) })
	var parts []export.Part
	for i, it := range p.Items {
		if i > 0 && it.Name == p.Items[i-1].Name {
			return fault.New(fault.No, "can't pack for %s: two files would be called %s", p.to.Destination, it.Name)
		}
		part := export.Part{Path: it.Name, Bytes: it.Size(), Open: it.Open}
		if !it.changed() {
			part.Same = it.From
		}
		parts = append(parts, part)
	}
	var err error
	if p.result, err = export.Assemble(ctx, p.build.Path, "zip", parts); err != nil {
		return err
	}
	if err := p.readable(); err != nil {
		return err
	}
	if p.HandOver() == "one-page" {
		return p.fold(ctx)
	}
	return nil
}

// readable returns an error where a script that could be parsed can't be any more: what was changed in it broke it.
func (p *Plan) readable() error {
	for _, it := range p.Items {
		if it.From == nil || !it.changed() || it.From.WhyUnparsed() != "" || it.Size() > script.LargestTree {
			continue
		}
		if now := p.result.File(it.Name); now != nil && now.WhyUnparsed() != "" {
			return unfollowed(
				it.From.Path,
				0,
				0,
				"after its links were changed it can't be parsed any more: %s. That is a mistake in Havvel",
				now.WhyUnparsed(),
			).
				Then("havvel pack --without names leaves the links as they are")
		}
	}
	return nil
}

func cmpNames(a, b string) int { return bytes.Compare([]byte(a), []byte(b)) }

// changed reports whether the item's bytes differ from those of its file.
func (it *Item) changed() bool { return it.From == nil || it.text != nil || it.open != nil }

// Size is how many bytes the item has before it is packed.
func (it *Item) Size() int64 {
	switch {
	case it.text != nil:
		return int64(len(it.text))
	case it.open != nil:
		return it.bytes
	}
	return it.From.Bytes
}

// Open opens the item's bytes.
func (it *Item) Open() (io.ReadCloser, error) {
	switch {
	case it.text != nil:
		return io.NopCloser(bytes.NewReader(it.text)), nil
	case it.open != nil:
		return it.open()
	}
	return it.From.Open()
}

// most is the largest text that is changed in memory, in bytes.
const most = 64 << 20

// read returns the item's bytes, to be changed.
func (it *Item) read(ctx context.Context) ([]byte, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	if it.text != nil {
		return it.text, nil
	}
	r, err := it.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	data, err := io.ReadAll(io.LimitReader(r, most+1))
	if err == nil && len(data) > most {
		err = fmt.Errorf("%s has more than 64 MB, so Havvel does not change it", it.Name)
	}
	return data, err
}

// page returns the entry page's bytes, and what it says of itself; nil when the entry is none that can be changed.
func (p *Plan) page(ctx context.Context) ([]byte, error) {
	if p.entry.From.Page == nil || p.entry.encoding != "" {
		return nil, nil
	}
	return p.entry.read(ctx)
}

// Await sets what is waited for before the archive gets its name; For has what that means.
func (p *Plan) Await(until func() error) { p.to.Until = until }

// Result is what is handed over, read as a build.
func (p *Plan) Result() *export.Build { return p.result }
