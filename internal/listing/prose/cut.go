package prose

import (
	"slices"
	"sort"
	"strings"
	"unicode"

	"github.com/clipperhouse/uax29/v2/graphemes"
)

// Cut writes as much of a text as fits, in a form: whole blocks or sentences where one ends near, else whole words and an ellipsis. What is
// marked up stays so, the last thing is no heading, and something is left of what has any words, if a single letter fits. rest are the
// words that are left out; "" where the whole text fits.
func Cut(blocks []*Node, f Form, fits func(string) bool) (text, rest string) {
	if text = Write(blocks, f); fits(text) {
		return text, ""
	}
	bare := []*Node{{Kind: Line, In: []*Node{Of(strings.ReplaceAll(Plain(blocks), "\n", " "))}}}
	for i, try := range [][]*Node{blocks, withoutHeadings(blocks), bare} {
		if text := Write(try, f); i > 0 && fits(text) && strings.TrimSpace(text) != "" {
			return text, strings.TrimSpace(strings.TrimSuffix(Plain(blocks), Plain(try)))
		}
		if text, rest, ok := cut(try, f, fits); ok {
			return text, rest
		}
	}
	return "", Plain(blocks)
}

func withoutHeadings(blocks []*Node) []*Node {
	return slices.DeleteFunc(slices.Clone(blocks), func(n *Node) bool { return n.Kind == Heading })
}

func cut(blocks []*Node, f Form, fits func(string) bool) (text, rest string, ok bool) {
	letters, bounds := survey(blocks)
	write := func(n int, mark string) string {
		k := &keeper{left: n, mark: mark}
		return Write(headless(k.keep(blocks)), f)
	}
	most := sort.Search(len(letters), func(n int) bool { return !fits(write(n+1, "…")) })
	for _, at := range ends(letters, bounds, most) {
		text = write(at.n, at.mark)
		if strings.TrimSpace(text) != "" && fits(text) {
			return text, strings.TrimSpace(strings.Join(letters[min(at.n, len(letters)):], "")), true
		}
	}
	return "", "", false
}

// survey lists the letters of a text, as people see them, and the numbers of them after which a block ends.
func survey(blocks []*Node) (letters []string, bounds map[int]bool) {
	bounds = map[int]bool{}
	for _, n := range blocks {
		each(n, func(n *Node) {
			switch n.Kind {
			case Words, Code, Key, Block:
				for g := graphemes.FromString(n.Text); g.Next(); {
					letters = append(letters, g.Value())
				}
			case Paragraph, Line, Heading, Item, Row, Quote, Rule:
				bounds[len(letters)] = true
			}
		})
	}
	return letters, bounds
}

// An end is a number of letters to keep, and what is put behind them.
type end struct {
	n    int
	mark string
}

// ends are the places to cut at, the best first.
func ends(letters []string, bounds map[int]bool, most int) (list []end) {
	for n := most; n > 0 && n >= most*3/5; n-- {
		if bounds[n] || sentence(letters, n) {
			list = append(list, end{n, ""})
			break
		}
	}
	for n := most; n > 0 && n >= most/2; n-- {
		if n < len(letters) && strings.TrimSpace(letters[n]) == "" && strings.TrimSpace(letters[n-1]) != "" {
			list = append(list, end{n, "…"})
			if n < most-1 || len(list) > 2 {
				break
			}
		}
	}
	for _, n := range []int{most, most - 1, most - 2, most - 5, most - 12} { // what counts as one letter may need more than one
		if n > 0 {
			list = append(list, end{n, "…"})
		}
	}
	return append(list, end{most + 1, ""}, end{max(most, 1), ""})
}

// sentence reports whether one ends after so many letters.
func sentence(letters []string, n int) bool {
	if n >= len(letters) {
		return false
	}
	last := n - 1
	for last > 0 && strings.Contains(`"')]”’»`, letters[last]) {
		last--
	}
	switch {
	case strings.Contains("。！？", letters[last]):
		return true
	case !strings.Contains(".!?…؟।", letters[last]) || strings.TrimSpace(letters[n]) != "":
		return false
	}
	for _, next := range letters[n:] {
		if strings.TrimSpace(next) != "" {
			return !unicode.IsLower([]rune(next)[0])
		}
	}
	return false
}

// A keeper keeps the first letters of a text.
type keeper struct {
	left int
	mark string // behind the last of them
	over bool
}

func (k *keeper) keep(in []*Node) (out []*Node) {
	for _, n := range in {
		if k.over || k.left <= 0 {
			break
		}
		if kept := k.node(n); kept != nil {
			out = append(out, kept)
		}
	}
	return out
}

func (k *keeper) node(n *Node) *Node {
	kept := *n
	switch n.Kind {
	case Words, Block:
		kept.Text = k.letters(n.Text)
		if k.over && n.Kind == Block {
			kept.Text = kept.Text[:strings.LastIndexByte(kept.Text, '\n')+1] // whole lines
		}
		if kept.Text == "" || kept.Text == k.mark && n.Kind == Block {
			return nil
		}
	case Code, Key, Row: // whole or not at all
		if length := count(n); length > k.left {
			k.over = true
			return nil
		} else {
			k.left -= length
		}
	case Rule, Break:
	default:
		if kept.In = k.keep(n.In); len(kept.In) == 0 && len(n.In) > 0 || n.Kind == Table && len(kept.In) < 2 {
			return nil
		}
	}
	return &kept
}

// letters keeps those of a text that there is room for.
func (k *keeper) letters(s string) string {
	at := 0
	for g := graphemes.FromString(s); g.Next(); at += len(g.Value()) {
		if k.left--; k.left < 0 {
			k.over = true
			return strings.TrimRight(s[:at], " \n\t,;:–—-") + k.mark
		}
	}
	if k.left == 0 && k.mark != "" {
		k.over = true
		return strings.TrimRight(s, " \n\t,;:–—-") + k.mark
	}
	return s
}

func count(n *Node) int {
	letters, _ := survey([]*Node{n})
	return len(letters)
}

// headless takes headings and lines from the end, below which nothing stands any more.
func headless(blocks []*Node) []*Node {
	for len(blocks) > 0 {
		last := blocks[len(blocks)-1]
		if k := last.Kind; k != Heading && k != Rule && k != Break {
			if k == Quote || k == List || k == Item {
				inner := headless(last.In)
				if len(inner) == 0 {
					blocks = blocks[:len(blocks)-1]
					continue
				}
				copied := *last
				copied.In = inner
				blocks = append(slices.Clone(blocks[:len(blocks)-1]), &copied)
			}
			return blocks
		}
		blocks = blocks[:len(blocks)-1]
	}
	return blocks
}
