package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"havvel/internal/app"
	"havvel/internal/check"
	"havvel/internal/cli/term"
	"havvel/internal/export"
	"havvel/internal/export/encoding"
	"havvel/internal/inwords"
	"havvel/internal/settings"
)

type lookFlags struct{ files, links, memory bool }

func (a *console) look() *cobra.Command {
	var f lookFlags
	c := a.new(command{
		use:   "look [EXPORT]",
		short: "What an export is made of",
		long: "Look reads an export (a folder, a zip or one HTML page) and says what it is: its entry page, its shape, what is downloaded\n" +
			"before the game can start, what it takes in memory, its files by kind, and the largest of them. Without EXPORT it is the one\n" +
			"that havvel.toml names, or this folder.",
		example: "  havvel look\n  havvel look export/web --files",
		args:    cobra.MaximumNArgs(1),
		run:     func(ctx context.Context, args []string) error { return a.runLook(ctx, args, f) },
	})
	c.Flags().BoolVar(&f.files, "files", false, "list all files")
	c.Flags().BoolVar(&f.links, "links", false, "list all links, and the files that nothing links to")
	c.Flags().BoolVar(&f.memory, "memory", false, "show what takes memory")
	a.withEntry(c)
	return c
}

func (a *console) runLook(ctx context.Context, args []string, f lookFlags) error {
	p, b, err := app.Open(ctx, args, a.entry, app.Known)
	if err != nil {
		return err
	}
	defer b.Close()
	s := a.screen
	a.answer(lookDocument(b))
	s.Line(
		"%s  %s",
		s.In(term.Strong, b.Path),
		s.In(term.Quiet, fmt.Sprintf("a %s, %s in %s", b.Source, settings.Size(b.Bytes), inwords.Files(len(b.Parts())))),
	)
	s.Line("")
	switch {
	case f.files:
		a.lookFiles(b)
	case f.links:
		a.lookLinks(b)
	case f.memory:
		a.lookMemory(b)
	default:
		a.lookWhole(b)
	}
	s.Line("")
	if p == nil {
		s.Next("havvel check%s", argument(args))
	} else {
		s.Next("havvel check%s  (is it right for %s?)", argument(args), portalNames(p))
	}
	return nil
}

var shapes = map[export.Shape]string{
	export.SinglePage: "everything in one HTML file",
	export.Script:     "pages, scripts and media",
	export.Wasm:       "a script that loads WebAssembly",
	export.WasmSplit:  "loader, runtime, WebAssembly and packed data",
}

// speeds are those for which look says how long the download takes: a slow phone's, one at home, a fast line's.
var speeds = []struct {
	name string
	bits float64 // a second
}{{"at 5 Mbit/s", 5e6}, {"at 50", 50e6}, {"at 250", 250e6}}

func (a *console) lookWhole(b *export.Build) {
	s := a.screen
	rows := [][]string{{"shape", fmt.Sprintf("%s (%s)", b.Shape, shapes[b.Shape])}, {"entry page", a.entryWords(b)}}
	start := b.Start()
	if b.Entry != nil {
		rows = append(
			rows,
			[]string{"to start", fmt.Sprintf("about %s in %s: %s", settings.Size(start.Bytes), inwords.Files(len(start.Files)), times(start.Bytes))},
		)
		if start.Wire < start.Bytes*9/10 {
			rows = append(
				rows,
				[]string{"", fmt.Sprintf("about %s where the host compresses on the way: %s", settings.Size(start.Wire), times(start.Wire))},
			)
		}
	}
	rows = append(rows, []string{"in memory", memoryWords(b)})
	if needs := needs(b); needs != "" {
		rows = append(rows, []string{"needs", needs})
	}
	rows = append(rows, []string{"fingerprint", b.Fingerprint[:16]})
	s.Table(nil, rows)
	s.Line("")
	a.lookKinds(b)
	if len(b.Parts()) > 1 {
		s.Line("")
		a.lookLargest(b)
	}
	if notes := lookNotes(b); len(notes) > 0 {
		s.Line("")
		for _, n := range notes {
			s.Paragraph(term.Plain, "  ", "    ", n)
		}
	}
}

func (a *console) entryWords(b *export.Build) string {
	if b.Entry == nil {
		return a.screen.In(term.Bad, "none: no HTML page in it runs a script")
	}
	words := inwords.Clean(b.Entry.Path)
	if t := b.Entry.Page.Title; t != "" {
		words += fmt.Sprintf(", titled %q", inwords.Clean(t))
	}
	return words
}

// times says how long a download takes on each line.
func times(bytes int64) string {
	var list []string
	for _, s := range speeds {
		took := time.Duration(float64(bytes) * 8 / s.bits * float64(time.Second))
		words := inwords.Span(took)
		if took < 10*time.Second {
			words = fmt.Sprintf("%.1fs", took.Seconds())
		}
		if took < 100*time.Millisecond {
			words = "under 0.1s"
		}
		list = append(list, words+" "+s.name)
	}
	return strings.Join(list, ", ")
}

func memoryWords(b *export.Build) string {
	m := b.Memory()
	words := fmt.Sprintf("about %s with everything decoded", settings.Size(m.WasmInitial+m.Textures+m.Sounds+m.Data))
	if m.WasmMaximum > m.WasmInitial {
		words += fmt.Sprintf("; WebAssembly may grow to %s", settings.Size(m.WasmMaximum))
	}
	return words + fmt.Sprintf(
		"  (a phone's tab has about %s, a desktop's %s)",
		settings.Size(check.PhoneTab),
		settings.Size(check.DesktopTab),
	)
}

func needs(b *export.Build) string {
	var list []string
	if b.NeedsIsolation() != nil {
		list = append(list, "cross-origin isolation headers, for threads")
	}
	var features []string
	for _, f := range b.Features() {
		features = append(features, string(f))
	}
	if len(features) > 0 {
		list = append(list, "a browser with WebAssembly's "+strings.Join(features, ", "))
	}
	return strings.Join(list, "; ")
}

// lookNotes are the things worth a line when they are so.
func lookNotes(b *export.Build) []string {
	var notes []string
	if n := len(b.Files) - len(b.Parts()); n > 0 {
		notes = append(
			notes,
			fmt.Sprintf("not counted: %s that %s belong in a build (havvel check names them)", inwords.Files(n),
				inwords.Of(n, "does not", "do not")),
		)
	}
	if len(b.Entries) > 1 && b.Entries[0].File.Path != export.EntryName {
		notes = append(
			notes,
			fmt.Sprintf("the entry page could also be %s, which %s (--entry settles it)", inwords.Clean(b.Entries[1].File.Path),
				b.Entries[1].Reason),
		)
	}
	var twice, unused, save int64
	for _, same := range b.Duplicates() {
		twice += same[0].Bytes * int64(len(same)-1)
	}
	idle := b.Unlinked()
	for _, f := range idle {
		unused += f.Bytes
	}
	for _, f := range b.Parts() {
		if f.Media != nil && (f.Media.Format == "WAV" || f.Media.Format == "BMP") {
			save += f.Bytes * 9 / 10
		}
	}
	if twice > 0 {
		notes = append(notes, fmt.Sprintf("there twice: %s (--files shows them)", settings.Size(twice)))
	}
	if len(idle) > 0 && b.Shape != export.SinglePage {
		notes = append(notes, fmt.Sprintf("nothing is known to load %s, %s (--links names them)", inwords.Files(len(idle)),
			settings.Size(unused)))
	}
	if save > 0 {
		notes = append(notes, fmt.Sprintf("sounds and pictures without compression: about %s could be saved", settings.Size(save)))
	}
	return notes
}

// kindNames say kinds to people, in the order in which they are shown.
var kindNames = []struct {
	kind export.Kind
	name string
}{
	{export.KindPage, "pages"}, {export.KindScript, "scripts"}, {export.KindStyle, "stylesheets"}, {export.KindWasm, "WebAssembly"},
	{export.KindData, "packed data"}, {export.KindPicture, "pictures"}, {export.KindSound, "sounds"}, {export.KindVideo, "videos"},
	{export.KindFont, "fonts"}, {export.KindText, "text and settings"}, {export.KindArchive, "archives"},
}

func (a *console) lookKinds(b *export.Build) {
	var rows [][]string
	for _, k := range kindNames {
		n, bytes := 0, int64(0)
		for _, f := range b.Parts() {
			if f.Kind == k.kind {
				n++
				bytes += f.Bytes
			}
		}
		if n > 0 {
			share := fmt.Sprintf("%.0f %%", 100*float64(bytes)/float64(max(1, b.Bytes)))
			rows = append(rows, []string{k.name, fmt.Sprint(n), settings.Size(bytes).String(), share})
		}
	}
	a.screen.Table([]string{"kind", "files", "size", "share"}, rows, 1, 2, 3)
}

func (a *console) lookLargest(b *export.Build) {
	parts := slices.Clone(b.Parts())
	slices.SortStableFunc(parts, func(x, y *export.File) int { return cmp.Compare(y.Bytes, x.Bytes) })
	var rows [][]string
	for _, f := range parts[:min(10, len(parts))] {
		rows = append(rows, []string{settings.Size(f.Bytes).String(), inwords.Clean(f.Path), a.screen.In(term.Quiet, detail(f))})
	}
	a.screen.Table([]string{"size", "largest files", ""}, rows, 0)
}

// detail says in a few words what a file is.
func detail(f *export.File) string {
	var list []string
	switch {
	case f.Media != nil && f.Media.Picture():
		list = append(list, fmt.Sprintf("%s, %d by %d", f.Media.Format, f.Media.Width, f.Media.Height))
	case f.Media != nil && f.Media.Length > 0:
		list = append(list, fmt.Sprintf("%s, %s", f.Media.Format, inwords.Span(f.Media.Length)))
	case f.Wasm != nil && len(f.Wasm.Memories) > 0:
		list = append(list, fmt.Sprintf("WebAssembly, memory from %s", settings.Size(f.Wasm.Memories[0].Initial)))
	default:
		list = append(list, string(f.Kind))
	}
	if f.Encoding != "" {
		list = append(list, fmt.Sprintf("compressed with %s, %s unpacked", encoding.Title(f.Encoding), settings.Size(f.Decoded)))
	}
	if f.Damage != "" {
		list = append(list, "damaged")
	}
	return strings.Join(list, ", ")
}

// unpacker says who names a compressed file, and who unpacks it.
func unpacker(b *export.Build, f *export.File) string {
	if f.Encoding == "" {
		return ""
	}
	who, l := b.Unpacker(f)
	words := map[export.Unpacker]string{
		export.ByHost: "which leaves unpacking to the host", export.ByGame: "which unpacks it itself",
		export.ByNobody: "which takes it as it comes; nobody unpacks it", export.Untold: "and who unpacks it can't be told",
	}[who]
	switch {
	case l == nil && b.NamedBy(f) == nil:
		return "; nothing is known to name it"
	case l == nil:
		return "; no script in the build can unpack it, so the host must"
	case l.Result == export.Compressed:
		return fmt.Sprintf("; named without its ending in %s, so the host must send it with Content-Encoding", inwords.Clean(l.From.Path))
	}
	if who == export.ByGame && l.From.Script == nil && l.From.Page == nil {
		words = "and a script of the game unpacks it"
	}
	return fmt.Sprintf("; named in %s, %s", inwords.Clean(l.From.Path), words)
}

func (a *console) lookFiles(b *export.Build) {
	var rows [][]string
	for _, f := range b.Files {
		what := detail(f) + unpacker(b, f)
		if f.Junk != "" {
			what = "does not belong: " + f.Junk
		}
		rows = append(rows, []string{settings.Size(f.Bytes).String(), inwords.Clean(f.Path), a.screen.In(term.Quiet, what)})
	}
	a.screen.Table([]string{"size", "file", "what it is"}, rows, 0)
	for _, same := range b.Duplicates() {
		var names []string
		for _, f := range same {
			names = append(names, inwords.Clean(f.Path))
		}
		a.screen.Paragraph(term.Plain, "  the same content: ", "    ", strings.Join(names, ", "))
	}
}

func (a *console) lookLinks(b *export.Build) {
	s := a.screen
	var rows [][]string
	for _, l := range b.Links {
		tone := term.Plain
		if l.Result != export.Found && l.Result != export.Compressed && l.Result != export.Inline {
			tone = term.Careful
		}
		target := []rune(inwords.Clean(l.Target))
		if len(target) > 60 {
			target = append(target[:57], '…')
		}
		rows = append(
			rows,
			[]string{
				fmt.Sprintf("%s:%d:%d", inwords.Clean(l.From.Path), l.Line, l.Column),
				l.Use,
				string(target),
				l.Certainty.String(),
				s.In(tone, string(l.Result)),
			},
		)
	}
	s.Table([]string{"where", "use", "names", "how sure", "result"}, rows)
	if list := b.Unparsed(); len(list) > 0 {
		s.Line("")
		s.Line("could not be parsed, so names that these put together were not seen:")
		for _, f := range list {
			s.Line("  %s  %s", inwords.Clean(f.Path), s.In(term.Quiet, inwords.Clean(f.WhyUnparsed())))
		}
	}
	idle := b.Unlinked()
	if len(idle) == 0 || b.Shape == export.SinglePage {
		return
	}
	s.Line("")
	s.Line("nothing is known to load:")
	for _, f := range idle {
		s.Line("  %s  %s", inwords.Clean(f.Path), s.In(term.Quiet, settings.Size(f.Bytes).String()))
	}
}

func (a *console) lookMemory(b *export.Build) {
	m := b.Memory()
	size := func(n int64) string { return settings.Size(n).String() }
	s := a.screen
	s.Table([]string{"what", "takes", "how it is known"}, [][]string{
		{"WebAssembly at the start", size(m.WasmInitial), "what its modules ask for"},
		{"pictures", size(m.Textures), "four bytes a pixel, all decoded at once"},
		{"sounds", size(m.Sounds), "four bytes a sample, all decoded at once"},
		{"packed data", size(m.Data), "the files, unpacked, kept whole"},
		{"together", size(m.WasmInitial + m.Textures + m.Sounds + m.Data), "the most at once, without what scripts make while they run"},
	}, 1)
	s.Line("")
	if m.WasmMaximum > 0 {
		s.Line("  WebAssembly may grow to %s.", size(m.WasmMaximum))
	}
	s.Line(
		"  A phone's tab can be expected to give about %s, a desktop's %s (docs/memory.md says why).",
		size(check.PhoneTab),
		size(check.DesktopTab),
	)
	var heavy []*export.File
	for _, f := range b.Parts() {
		if f.Media != nil && f.Media.Decoded() > 0 {
			heavy = append(heavy, f)
		}
	}
	if len(heavy) == 0 {
		return
	}
	slices.SortStableFunc(heavy, func(x, y *export.File) int { return cmp.Compare(y.Media.Decoded(), x.Media.Decoded()) })
	var rows [][]string
	for _, f := range heavy[:min(10, len(heavy))] {
		rows = append(rows, []string{size(f.Media.Decoded()), inwords.Clean(f.Path), s.In(term.Quiet, detail(f))})
	}
	s.Line("")
	s.Table([]string{"decoded", "the most of pictures and sounds", ""}, rows, 0)
}
