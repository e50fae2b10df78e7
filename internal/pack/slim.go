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
	for _, kind := range slices.Sorted(maps.Keys(gains)) {
		g := gains[kind]
		p.note(
			"slim",
			-g.bytes,
			"less to download, and nothing lost",
			"%s of %s %s",
			count(g.files, "file"),
			kind,
			verb(g.files, "becomes smaller", "become smaller"),
		)
	}
	return nil
}

// gain is what was won among files of one kind.
type gain struct {
	files int
	bytes int64
}

// slimAll makes all items smaller that can be, on all cores.
func (p *Plan) slimAll(ctx context.Context) (map[string]gain, error) {
	gains := map[string]gain{}
	var mu sync.Mutex
	work, ctx := errgroup.WithContext(ctx)
	work.SetLimit(runtime.GOMAXPROCS(0))
	for _, it := range p.Items {
		if it.From == nil || it.encoding != "" || it.Size() > mostSlim || it.Size() < 100 {
			continue
		}
		work.Go(func() error {
			before := it.Size()
			if err := p.slimOne(ctx, it); err != nil {
				return fmt.Errorf("making %s smaller: %w", it.From.Path, err)
			}
			if won := before - it.Size(); won > 0 {
				mu.Lock()
				defer mu.Unlock()
				kind := strings.ToLower(strings.TrimPrefix(path.Ext(it.Name), "."))
				gains[kind] = gain{gains[kind].files + 1, gains[kind].bytes + won}
			}
			return nil
		})
	}
	return gains, work.Wait()
}

func (p *Plan) slimOne(ctx context.Context, it *Item) error {
	if head, err := it.head(); err != nil || !slimmer.Can(it.Name, head) {
		return err
	}
	sum := it.From.SHA256
	var data []byte
	if it.changed() {
		var err error
		if data, err = it.read(ctx); err != nil {
			return err
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
		return err
	}
	if it.text != nil || it == p.entry { // what comes after changes texts in memory
		it.text, err = made.read()
		return err
	}
	it.use(made)
	return nil
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
