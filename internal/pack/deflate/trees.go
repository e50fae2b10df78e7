package deflate

// trees find all matches of a position: for each hash of four bytes a binary tree of the places in the window, sorted by what stands
// there, the latest at the root.
type trees struct {
	three [1 << hash3Bits]int32
	four  [1 << hash4Bits]int32
	child [2 * windowSize]int32 // of each place: where less stands, and where more
}

const treeDepth = 400 // places that are looked at for one position

func (t *trees) reset() {
	for i := range t.three {
		t.three[i] = nowhere
	}
	for i := range t.four {
		t.four[i] = nowhere
	}
}

// insert notes a position, and appends its matches to list where it is not nil, each longer than the one before it and the nearest of
// its length.
func (t *trees) insert(data []byte, at, most int, list *[]match) {
	four := load32(data, at)
	h3, h4 := hash3(four), hash4(four)
	near, place := int(t.three[h3]), int(t.four[h4])
	t.three[h3], t.four[h4] = int32(at), int32(at)
	oldest := max(at-windowSize, -1)
	best := minMatch
	if list != nil && near > oldest && (load32(data, near)^four)<<8 == 0 {
		*list = append(*list, match{minMatch, uint16(at - near)})
	}
	less, more := &t.child[2*(at&(windowSize-1))], &t.child[2*(at&(windowSize-1))+1]
	lessSame, moreSame, same := 0, 0, 0
	for depth := treeDepth; place > oldest && depth > 0; depth-- {
		children := t.child[2*(place&(windowSize-1)):][:2:2]
		if same = extended(data, place, at, same, most); same > best {
			best = same
			if list != nil {
				*list = append(*list, match{uint16(same), uint16(at - place)})
			}
		}
		if same >= most { // what stands there is the same as far as it matters
			*less, *more = children[0], children[1]
			return
		}
		if data[place+same] < data[at+same] {
			*less, less = int32(place), &children[1]
			place, lessSame = int(*less), same
			same = min(same, moreSame)
		} else {
			*more, more = int32(place), &children[0]
			place, moreSame = int(*more), same
			same = min(same, lessSame)
		}
	}
	*less, *more = nowhere, nowhere
}
