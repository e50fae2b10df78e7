package keys

import (
	"os"
	"path/filepath"
	"testing"

	"havvel/internal/disk"
	"havvel/internal/disk/disktest"
)

// TestStops: wherever the disk stops, the keys that were there are there, and one whose setting had ended, and nobody else may read them.
func TestStops(t *testing.T) {
	disktest.Stops(t, func(folder string) {
		if err := (&Ring{path: filepath.Join(folder, "keys.json")}).Set(Key{Name: "shed", Host: "shed.example", Secret: "oil"}); err != nil {
			t.Fatal(err)
		}
	}, func(system disk.FS, folder string) error {
		return (&Ring{path: filepath.Join(folder, "keys.json"), fs: system}).Set(
			Key{Name: "quillmarsh", Host: "quillmarsh.example", Secret: "wick"},
		)
	}, func(t *testing.T, folder string, done bool) {
		list, err := (&Ring{path: filepath.Join(folder, "keys.json")}).List()
		if err != nil || len(list) == 0 || done && len(list) != 2 {
			t.Errorf("%d keys (%v), and the setting had ended: %v", len(list), err, done)
		}
	})
	folder := t.TempDir()
	path := filepath.Join(folder, "keys.json")
	if err := (&Ring{path: path}).Set(Key{Name: "shed", Host: "shed.example", Secret: "oil"}); err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info.Mode(), err)
	}
}
