package listing

import "strings"

// Diff compares two texts line by line: lines that went begin with "- ", those that came with "+ ", and one line around them
// that stayed with two spaces.
func Diff(before, after string) []string {
	a, b := strings.Split(before, "\n"), strings.Split(after, "\n")
	if before == "" {
		a = nil
	}
	if after == "" {
		b = nil
	}
	type line struct {
		sign byte
		text string
	}
	var all []line
	common := longestCommon(a, b)
	i, j := 0, 0
	for _, c := range append(common, [2]int{len(a), len(b)}) {
		for ; i < c[0]; i++ {
			all = append(all, line{'-', a[i]})
		}
		for ; j < c[1]; j++ {
			all = append(all, line{'+', b[j]})
		}
		if i < len(a) {
			all = append(all, line{' ', a[i]})
			i, j = i+1, j+1
		}
	}
	var out []string
	for k, l := range all {
		near := k > 0 && all[k-1].sign != ' ' || k+1 < len(all) && all[k+1].sign != ' '
		if l.sign != ' ' || near {
			out = append(out, string(l.sign)+" "+l.text)
		}
	}
	return out
}

// longestCommon lists the places of the longest common sequence of lines. What is equal at both ends is taken first, and what
// is left is compared up to a bound.
func longestCommon(a, b []string) [][2]int {
	var list [][2]int
	i := 0
	for i < len(a) && i < len(b) && a[i] == b[i] {
		list = append(list, [2]int{i, i})
		i++
	}
	enda, endb := len(a), len(b)
	for enda > i && endb > i && a[enda-1] == b[endb-1] {
		enda, endb = enda-1, endb-1
	}
	const most = 4_000_000
	if (enda-i)*(endb-i) <= most {
		for _, x := range commonOf(a[i:enda], b[i:endb]) {
			list = append(list, [2]int{i + x[0], i + x[1]})
		}
	}
	for k := 0; enda+k < len(a); k++ {
		list = append(list, [2]int{enda + k, endb + k})
	}
	return list
}

// commonOf is the longest common sequence by a table of all pairs.
func commonOf(a, b []string) (list [][2]int) {
	n, m := len(a), len(b)
	table := make([][]int32, n+1)
	for x := range table {
		table[x] = make([]int32, m+1)
	}
	for x := n - 1; x >= 0; x-- {
		for y := m - 1; y >= 0; y-- {
			if a[x] == b[y] {
				table[x][y] = table[x+1][y+1] + 1
			} else {
				table[x][y] = max(table[x+1][y], table[x][y+1])
			}
		}
	}
	for x, y := 0, 0; x < n && y < m; {
		switch {
		case a[x] == b[y]:
			list = append(list, [2]int{x, y})
			x, y = x+1, y+1
		case table[x+1][y] >= table[x][y+1]:
			x++
		default:
			y++
		}
	}
	return list
}
