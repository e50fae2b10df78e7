package pack

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"

	"golang.org/x/sync/errgroup"
)

// TestMadeElsewhere: however many find at once that their folder can't be written to, each gets its content.
func TestMadeElsewhere(t *testing.T) {
	blocked := filepath.Join(t.TempDir(), "cache")
	if err := os.WriteFile(blocked, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	m := &making{folder: filepath.Join(blocked, "made")}
	defer m.close()
	var all errgroup.Group
	meet := make(chan struct{})
	for i := range 8 {
		all.Go(func() error {
			<-meet
			want := fmt.Sprintf("lantern %d", i)
			made, err := m.product([32]byte{byte(i)}, "test", func(w io.Writer) error {
				_, err := io.WriteString(w, want)
				return err
			})
			if err != nil {
				return err
			}
			if got, err := made.read(); err != nil || string(got) != want {
				return fmt.Errorf("got %q, want %q: %v", got, want, err)
			}
			return nil
		})
	}
	close(meet)
	if err := all.Wait(); err != nil {
		t.Error(err)
	}
	if m.failed == nil {
		t.Error("why it is kept elsewhere is not said")
	}
}
