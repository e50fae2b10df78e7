package pack

import (
	"bytes"
	"context"
	"io"

	"havvel/internal/export/link"
)

// renew gives pages and loaders the hashes of the files that changed, where they name them by their hashes: browsers refuse a script that
// has another. What changes by that may be named by its hash, too.
func renew(ctx context.Context, p *Plan) error {
	holders, kinds, held := p.digests()
	if len(holders) == 0 {
		return nil
	}
	files, err := p.hashed(kinds, held)
	if err != nil {
		return err
	}
	told := map[*Item]bool{}
	for more, round := true, 0; more && round <= len(files) && ctx.Err() == nil; round++ {
		more = false
		for _, f := range files {
			d, err := digestOf(f.now.Kind(), f.it.Open)
			if err != nil {
				return err
			}
			if d == f.now {
				continue
			}
			if err := replace(ctx, holders, f.now, d); err != nil {
				return err
			}
			f.now, more = d, true
			if !told[f.it] {
				told[f.it] = true
				p.note(
					"hashes",
					0,
					"browsers refuse a file whose hash is another",
					"the hash of %s (integrity) becomes that of what is packed",
					f.it.Name,
				)
			}
		}
	}
	return ctx.Err()
}

// replace puts one hash in the place of another in all items that name files by hashes.
func replace(ctx context.Context, holders []*Item, old, new link.Digest) error {
	for _, h := range holders {
		text, err := h.read(ctx)
		if err != nil {
			return err
		}
		if with := bytes.ReplaceAll(text, []byte(old), []byte(new)); !bytes.Equal(with, text) {
			h.text = with
		}
	}
	return nil
}

// hashed is an item that is named by its hash.
type hashed struct {
	it  *Item
	now link.Digest // under which it is named
}

// hashed lists the items that changed, or may by this, and are named by a hash that they had in the export.
func (p *Plan) hashed(kinds map[string]bool, held map[link.Digest]bool) (list []*hashed, err error) {
	for _, it := range p.Items {
		if it.From == nil || it.From.Encoding != "" || it.encoding != "" || !it.changed() && it.From.Digests() == nil {
			continue
		}
		for kind := range kinds {
			d, err := digestOf(kind, it.From.Open)
			if err != nil {
				return nil, err
			}
			if held[d] {
				list = append(list, &hashed{it, d})
			}
		}
	}
	return list, nil
}

// digests lists the items that name files by their hashes, and those hashes.
func (p *Plan) digests() (holders []*Item, kinds map[string]bool, held map[link.Digest]bool) {
	kinds, held = map[string]bool{}, map[link.Digest]bool{}
	for _, it := range p.Items {
		if it.From == nil || it.encoding != "" || it.From.Encoding != "" || len(it.From.Digests()) == 0 {
			continue
		}
		holders = append(holders, it)
		for _, d := range it.From.Digests() {
			kinds[d.Kind()], held[d] = true, true
		}
	}
	return holders, kinds, held
}

func digestOf(kind string, open func() (io.ReadCloser, error)) (link.Digest, error) {
	r, err := open()
	if err != nil {
		return "", err
	}
	defer r.Close()
	return link.DigestOf(kind, r)
}
