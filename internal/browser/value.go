package browser

import (
	"context"
	"encoding/json"
	"strings"
	"time"
)

// decode reads a value that a page gave. A page that gave none leaves what is there.
func decode(data []byte, into any) error {
	if into == nil || len(data) == 0 {
		return nil
	}
	return json.Unmarshal(data, into)
}

func withoutQuery(address string) string {
	address, _, _ = strings.Cut(address, "#")
	address, _, _ = strings.Cut(address, "?")
	return address
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}
