package proof

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"havvel/internal/browser"
	"havvel/internal/pack"
	"havvel/internal/rulebook"
)

// longestLive is how long a page on a real host may take to show the frame that a game is in.
const longestLive = 20 * time.Second

// A NoGame says that a page shows no frame of a game that was packed by Havvel.
type NoGame struct{ Address string }

func (e *NoGame) Error() string {
	return fmt.Sprintf("no frame of %s holds a build that havvel packed; a login or a button may stand before the game", e.Address)
}

// GameOf opens a page on a real host, and finds the folder of the game that is in one of its frames, by the stamp that pack puts into it.
// The error is *NoGame where there is none.
func GameOf(ctx context.Context, program, page string, v rulebook.View) (folder string, stamp *pack.Stamp, err error) {
	b, err := browser.Start(ctx, program)
	if err != nil {
		return "", nil, err
	}
	defer b.Close()
	var mu sync.Mutex
	seen := map[browser.Frame]string{} // the address of each frame
	tab, err := b.Open(ctx, browser.Window{Width: v.Size[0], Height: v.Size[1], Touch: v.Touch}, func(ev browser.Event) {
		if e, ok := ev.(browser.Arrived); ok && strings.HasPrefix(e.Address, "http") {
			mu.Lock()
			defer mu.Unlock()
			seen[e.Frame] = e.Address
		}
	})
	if err != nil {
		return "", nil, err
	}
	defer tab.Close()
	if err := tab.Go(ctx, page); err != nil {
		return "", nil, browser.Failed(ctx, err)
	}
	asked := map[string]bool{}
	for end := time.Now().Add(longestLive); time.Now().Before(end) && ctx.Err() == nil; pause(ctx) {
		mu.Lock()
		list := maps.Clone(seen)
		mu.Unlock()
		for frame, address := range list {
			base := address // a page at a site's root says where its files are
			if tab.Evaluate(ctx, frame, "document.baseURI", &base) != nil {
				base = address
			}
			for _, at := range []string{folderOf(address), folderOf(base)} {
				if asked[at] {
					continue
				}
				asked[at] = true
				if s := stampAt(ctx, at); s != nil {
					return at, s, nil
				}
			}
		}
	}
	if ctx.Err() != nil {
		return "", nil, ctx.Err()
	}
	return "", nil, &NoGame{page}
}

// folderOf is the folder that a page is in.
func folderOf(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return address
	}
	u.RawQuery, u.Fragment = "", ""
	text := u.String()
	return text[:strings.LastIndexByte(text, '/')+1]
}

// stampAt is the stamp of a build in a folder; nil where there is none that can be read.
func stampAt(ctx context.Context, folder string) *pack.Stamp {
	ctx, cancel := context.WithTimeout(ctx, longestLive/2)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, folder+pack.StampName, nil)
	if err != nil {
		return nil
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return nil
	}
	defer answer.Body.Close()
	s := &pack.Stamp{}
	reads := json.NewDecoder(http.MaxBytesReader(nil, answer.Body, 64<<10))
	if answer.StatusCode != http.StatusOK || reads.Decode(s) != nil || s.Fingerprint == "" {
		return nil
	}
	return s
}

// pause waits a little, before one looks again.
func pause(ctx context.Context) {
	select {
	case <-ctx.Done():
	case <-time.After(200 * time.Millisecond):
	}
}
