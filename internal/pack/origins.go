package pack

import "slices"

// An Origin ties a file of the export to the one that is handed over in its place.
type Origin struct {
	File  string   // in the export; "" for what pack adds
	Name  string   // in what is handed over; "" for what stays behind
	Steps []string // that changed it, by name
}

// shape is what a step can change of an item.
type shape struct {
	name, encoding string
	anew, made     bool
	edits          int
	text           *byte
}

func (it *Item) shape() shape {
	s := shape{it.Name, it.encoding, it.anew, it.open != nil, len(it.edits), nil}
	if len(it.text) > 0 {
		s.text = &it.text[0]
	}
	return s
}

// tracked runs a step, and notes which items it changed.
func (p *Plan) tracked(name string, run func() error) error {
	before := slices.Clone(p.Items)
	for _, it := range before {
		it.was, it.tracked = it.shape(), true
	}
	err := run()
	for _, it := range p.Items {
		if name != "" && (!it.tracked || it.was != it.shape()) && !slices.Contains(it.by, name) {
			it.by = append(it.by, name)
		}
		it.tracked = false
	}
	for _, it := range before {
		if it.tracked && it.From != nil { // it is no longer among them
			p.left = append(p.left, Origin{File: p.build.Inside(it.From), Steps: []string{name}})
		}
	}
	return err
}

// Origins lists the files of the export, with where each went, and those that pack adds. Names are those inside the game's folder.
func (p *Plan) Origins() []Origin {
	if p.origins != nil {
		return p.origins
	}
	list := slices.Clone(p.left)
	for _, it := range p.Items {
		o := Origin{Name: it.Name, Steps: it.by}
		if it.From != nil {
			o.File = p.build.Inside(it.From)
		}
		list = append(list, o)
	}
	return list
}

// Taken lists the steps that changed something and can be left out, in their order.
func (p *Plan) Taken() []string {
	var names []string
	for _, k := range Kinds() {
		if k.Name != "stamp" && slices.ContainsFunc(p.Steps, func(s Step) bool { return s.Name == k.Name }) {
			names = append(names, k.Name)
		}
	}
	return names
}
