package trial

import (
	"bytes"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"
)

// waits are how long the main threads of a browser's processes have waited for a processor since they began (proc(5): schedstat), by what
// the processes do. Of several that do the same, only one is the game's, and any of them may be. ok is false where that can't be read.
func waits(browser int) (total map[waiter]time.Duration, ok bool) {
	total = map[waiter]time.Duration{}
	for _, pid := range family(browser) {
		data, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/schedstat", pid, pid))
		if err != nil {
			continue // it ended meanwhile
		}
		fields := strings.Fields(string(data))
		if len(fields) < 2 {
			continue
		}
		if ns, err := strconv.ParseInt(fields[1], 10, 64); err == nil {
			total[waiter{pid, kindOfProcess(pid)}], ok = time.Duration(ns), true
		}
	}
	return total, ok
}

// kindOfProcess is what a browser's process does, by its command line: Chromium says it after --type=, Firefox at the end.
func kindOfProcess(pid int) string {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if err != nil {
		return ""
	}
	words := strings.Fields(strings.ReplaceAll(string(data), "\x00", " "))
	for _, w := range words {
		if kind, ok := strings.CutPrefix(w, "--type="); ok {
			return kind
		}
	}
	if len(words) > 1 && words[1] == "-contentproc" {
		return words[len(words)-1]
	}
	return "browser"
}

// stolen is how long the processors of this machine were given to others than it, on average, since it began (proc(5): steal in stat).
func stolen() time.Duration {
	data, err := os.ReadFile("/proc/stat")
	if err != nil {
		return 0
	}
	processors, ticks := 0, int64(0)
	for line := range bytes.Lines(data) {
		fields := strings.Fields(string(line))
		switch {
		case len(fields) < 9 || !strings.HasPrefix(fields[0], "cpu"):
		case fields[0] == "cpu":
			ticks, _ = strconv.ParseInt(fields[8], 10, 64)
		default:
			processors++
		}
	}
	return time.Duration(ticks) * (time.Second / 100) / time.Duration(max(processors, 1))
}

// family are a process and all below it.
func family(pid int) []int {
	list := []int{pid}
	for i := 0; i < len(list) && i < 64; i++ {
		data, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", list[i], list[i]))
		if err != nil {
			continue
		}
		for _, word := range strings.Fields(string(data)) {
			if child, err := strconv.Atoi(word); err == nil {
				list = append(list, child)
			}
		}
	}
	return list
}
