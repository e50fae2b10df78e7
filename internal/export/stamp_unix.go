//go:build linux || darwin

package export

import (
	"fmt"
	"io/fs"
	"syscall"
	"time"
)

// Exact says that this system notes each change of a file where programs can't set it back, so that what the cache knows
// of a file may be trusted as much as its bytes.
const Exact = true

// stampOf is different after a file was written again; settled is when that last happened.
func stampOf(info fs.FileInfo) (stamp string, settled time.Time) {
	stamp, settled = fmt.Sprintf("%d %d", info.Size(), info.ModTime().UnixNano()), info.ModTime()
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		changed := changeTime(s)
		stamp += fmt.Sprintf(" %d %d", changed.UnixNano(), s.Ino)
		if changed.After(settled) {
			settled = changed
		}
	}
	return stamp, settled
}
