package pack

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"maps"
	"path"
	"runtime"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	slimmer "havvel/internal/pack/slim"
)

// mostSlim is the largest file that is made smaller, in bytes.
const mostSlim = 24 << 20

// slim makes files smaller without loss, and leaves source maps out. A file never becomes larger.
func slim(ctx context.Context, p *Plan) error {
	if !p.to.Slim {
		return nil
	}
	for _, it := range slices.Clone(p.Items) {
		if strings.HasSuffix(strings.ToLower(it.Name), ".map") && it != p.entry {
			p.note("slim", -it.Size(), "players don't need source maps", "%s is left out", it.From.Path)
			p.drop(it)
		}
	}
	gains, err := p.slimAll(ctx)
	if err != nil {
		return err
	}
	for _, how := range slices.Sorted(maps.Keys(gains)) {
		g := gains[how]
		kinds := strings.Join(slices.Sorted(maps.Keys(g.kinds)), ", ")
		p.note("slim", -g.bytes, "less to download, and nothing lost", "in %s (%s) %s", count(g.files, "file"), kinds, how)
	}
	return nil
}

// gain is what one way of making files smaller has won.
type gain struct {
	files int
	bytes int64
	kinds map[string]bool // endings of the files
}

// slimAll makes all items smaller that can be, on all cores.
func (p *Plan) slimAll(ctx context.Context) (map[string]*gain, error) {
	gains := map[string]*gain{}
	var mu sync.Mutex
	work, ctx := errgroup.WithContext(ctx)
	work.SetLimit(runtime.GOMAXPROCS(0))
	for _, it := range p.Items {
		if it.From == nil || it.encoding != "" || it.Size() > mostSlim || it.Size() < 100 {
			continue
		}
		work.Go(func() error {
			before := it.Size()
			how, err := p.slimOne(ctx, it)
			if err != nil {
				return fmt.Errorf("making %s smaller: %w", it.From.Path, err)
			}
			if won := before - it.Size(); won > 0 {
				mu.Lock()
				defer mu.Unlock()
				if gains[how] == nil {
					gains[how] = &gain{kinds: map[string]bool{}}
				}
				gains[how].files++
				gains[how].bytes += won
				gains[how].kinds[strings.ToLower(strings.TrimPrefix(path.Ext(it.Name), "."))] = true
			}
			return nil
		})
	}
	return gains, work.Wait()
}

// slimOne makes one item smaller, and says how.
func (p *Plan) slimOne(ctx context.Context, it *Item) (how string, err error) {
	head, err := it.head()
	if err != nil {
		return "", err
	}
	if how = slimmer.How(it.Name, head); how == "" {
		return "", nil
	}
	sum := it.From.SHA256
	var data []byte
	if it.changed() {
		if data, err = it.read(ctx); err != nil {
			return "", err
		}
		sum = sha256.Sum256(data)
	}
	made, err := p.made.product(sum, "slim "+slimmer.Version+path.Ext(it.Name), func(w io.Writer) error {
		if data == nil {
			var err error
			if data, err = it.read(ctx); err != nil {
				return err
			}
			if sha256.Sum256(data) != sum {
				return fmt.Errorf("it changed while it was packed")
			}
		}
		if small := slimmer.Content(it.Name, data); len(small) < len(data) {
			_, err := w.Write(small)
			return err
		}
		return nil // an empty file says that there is nothing to gain
	})
	if err != nil || made.bytes == 0 {
		return "", err
	}
	if it.text != nil || it == p.entry { // what comes after changes texts in memory
		it.text, err = made.read()
		return how, err
	}
	it.use(made)
	return how, nil
}

// head returns the first bytes of an item.
func (it *Item) head() ([]byte, error) {
	r, err := it.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	head := make([]byte, 32)
	n, err := io.ReadFull(r, head)
	if err == io.ErrUnexpectedEOF || err == io.EOF {
		err = nil
	}
	return head[:n], err
}
