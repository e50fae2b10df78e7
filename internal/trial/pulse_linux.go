package trial

import (
	"bytes"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"
)

// waited is how long the main threads of a browser's processes have waited for a processor, since they began, and the processor time that
// the machine under this one took for others (proc(5): schedstat, and steal in stat). ok is false where that can't be read.
func waited(browser int) (total time.Duration, ok bool) {
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
			total, ok = total+time.Duration(ns), true
		}
	}
	return total, ok
}

// stolen is how long the processors of this machine were not given to it, on average, since it began.
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
