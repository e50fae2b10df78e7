package pack

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"golang.org/x/text/unicode/norm"

	"havvel/internal/export"
)

// fixNames fixes what works on the developer's disk only: links in another letter case, links from the host's root, and
// names that the destination can't take. Links are changed by follow; here it is decided which, and said.
func fixNames(_ context.Context, p *Plan) error {
	for _, it := range p.Items {
		if it.From != nil {
			p.fixBase(it)
		}
	}
	if err := p.fixLinks(); err != nil {
		return err
	}
	for _, it := range p.Items {
		if it.From == nil || it == p.entry {
			continue
		}
		if err := p.fixName(it); err != nil {
			return err
		}
	}
	return nil
}

// fixBase makes a page whose links start at the host's root relative to its own folder.
func (p *Plan) fixBase(it *Item) {
	f := it.From
	if !f.BasedAtRoot() || f.Page.Base != p.build.Root() && strings.Trim(f.Page.Base, "/") != "" {
		return
	}
	base := "./" + strings.Repeat("../", strings.Count(folderOf(it.Name), "/"))
	it.edits = append(it.edits, edit{f.Page.BaseAt.Offset, f.Page.BaseAt.Len, base})
	p.note(
		"names",
		0,
		"portals serve a game from a folder of its own",
		"%s says that its links start at %s, and not at the host's root",
		f.Path,
		base,
	)
}

// fixLinks says which links change; where only the file's name can, it changes.
func (p *Plan) fixLinks() error {
	absolute := map[*export.File]int{}
	var order []*export.File
	for _, l := range p.build.Links {
		if p.of[l.From] == nil {
			continue
		}
		if edits, reason, ok := p.build.FromRoot(l); ok && reason == "" && len(edits) > 0 {
			if absolute[l.From]++; absolute[l.From] == 1 {
				order = append(order, l.From)
			}
			continue
		}
		it := p.of[l.To]
		if it == nil || l.Result != export.OtherCase {
			continue
		}
		if _, _, can := p.build.Rewritten(l, l.To.Path); can {
			p.note("names", 0, "portals' hosts tell letter case apart", "%s:%d: the link %s leads to %s", l.From.Path, l.Line, l.Target, l.To.Path)
		} else {
			p.nameAsLinked(it, l)
		}
	}
	p.noteRelative(order, absolute)
	for f, root := range p.build.PageRoots() {
		if it := p.of[f]; it != nil {
			it.edits = append(it.edits, edit{at: f.Page.HeadStart, text: fmt.Sprintf("<script>var %s=%q</script>", export.RootName, root)})
		}
	}
	return nil
}

// noteRelative says in which files how many links become relative; of very many files, how many.
func (p *Plan) noteRelative(order []*export.File, links map[*export.File]int) {
	const named = 5
	say := func(where string, n int) {
		what := fmt.Sprintf("%d links that start at the host's root become", n)
		if n == 1 {
			what = "a link that starts at the host's root becomes"
		}
		p.note("names", 0, "portals serve a game from a folder of its own", "%s: %s relative", where, what)
	}
	rest := order[min(named, len(order)):]
	if len(rest) == 1 {
		rest = nil
	}
	for _, f := range order[:len(order)-len(rest)] {
		say(f.Path, links[f])
	}
	n := 0
	for _, f := range rest {
		n += links[f]
	}
	if n > 0 {
		say(fmt.Sprintf("%d more files", len(rest)), n)
	}
}

// nameAsLinked gives a file the name that all links to it use, where links can't be changed.
func (p *Plan) nameAsLinked(it *Item, l export.Link) {
	to := strings.TrimPrefix(l.Path, p.build.Base)
	if it.Name == to || p.named(to) != nil {
		return
	}
	if _, vague := p.build.Vague(it.From); vague ||
		slices.ContainsFunc(p.build.NamesOf(it.From), func(o export.Link) bool { return o.Path != l.Path }) {
		return // check says what is wrong with the link
	}
	p.note("names", 0, "portals' hosts tell letter case apart", "%s is called %s, as %s:%d names it", it.From.Path, to, l.From.Path, l.Line)
	it.Name = to
}

// fixName gives a file a name that the destination can take.
func (p *Plan) fixName(it *Item) error {
	wanted := p.to.Rules != nil && p.to.Rules.Archive.Names == "plain"
	parts := strings.Split(it.Name, "/")
	for i, part := range parts {
		parts[i] = portable(part)
		if wanted {
			parts[i] = plainPart(parts[i])
		}
	}
	name := strings.Join(parts, "/")
	if name == it.Name {
		return nil
	}
	for n := 2; p.named(name) != nil; n++ {
		ending := path.Ext(name)
		name = fmt.Sprintf("%s-%d%s", strings.TrimSuffix(strings.Join(parts, "/"), ending), n, ending)
	}
	if err := p.build.Followed(it.From, p.build.Base+name); err != nil {
		if wanted {
			return unfollowed(
				it.From.Path,
				0,
				0,
				"%s can't take this name, and it can't become %s: %w",
				p.to.Rules.Name,
				name,
				err,
			).Then("rename it in the game's project and export again")
		}
		return nil // check says what may go wrong
	}
	p.note("names", 0, "not every host can take the old name", "%s is called %s", it.From.Path, name)
	p.renamed[it] = "it is called " + name
	it.Name = name
	return nil
}

// portable is a name that every system can write.
func portable(name string) string {
	name = norm.NFC.String(strings.Map(func(r rune) rune {
		if strings.ContainsRune(`<>:"|?*\`, r) {
			return '-'
		}
		return r
	}, name))
	if trimmed := strings.TrimRight(name, ". "); trimmed != "" {
		name = trimmed
	}
	stem, _, _ := strings.Cut(strings.ToLower(name), ".")
	device := len(stem) == 4 && (strings.HasPrefix(stem, "com") || strings.HasPrefix(stem, "lpt")) && stem[3] >= '1' && stem[3] <= '9'
	if device || slices.Contains([]string{"con", "prn", "aux", "nul"}, stem) {
		name = "x-" + name
	}
	return name
}

// plainPart is a name of plain letters, digits, hyphens, underscores and dots.
func plainPart(name string) string {
	var b strings.Builder
	for _, r := range norm.NFD.String(name) {
		switch {
		case r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '.' || r == '_' || r == '-':
			b.WriteRune(r)
		case r >= 0x300 && r < 0x370: // an accent, of the letter before
		default:
			b.WriteByte('-')
		}
	}
	return b.String()
}
