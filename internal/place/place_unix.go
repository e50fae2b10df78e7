//go:build !windows

package place

import (
	"os"
	"path/filepath"

	"github.com/google/renameio/v2"
)

type atomicFile struct{ *renameio.PendingFile }

func begin(path string) (pending, error) {
	// The folder itself, and not the system's temporary one, so that moving is one step.
	f, err := renameio.NewPendingFile(path, renameio.WithTempDir(filepath.Dir(path)), renameio.WithPermissions(0o644))
	if err != nil {
		return nil, err
	}
	return atomicFile{f}, nil
}

func (f atomicFile) file() *os.File { return f.File }
func (f atomicFile) commit() error  { return f.CloseAtomicallyReplace() }
func (f atomicFile) discard() error { return f.Cleanup() }
