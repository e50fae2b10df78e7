//go:build !linux && !darwin

package export

import (
	"fmt"
	"io/fs"
	"time"
)

// Exact says that this system notes each change of a file where programs can't set it back, so that what the cache knows
// of a file may be trusted as much as its bytes.
const Exact = false

// stampOf is different after a file was written again, unless its time was set back; settled is when it was written.
func stampOf(info fs.FileInfo) (stamp string, settled time.Time) {
	return fmt.Sprintf("%d %d", info.Size(), info.ModTime().UnixNano()), info.ModTime()
}
