package playhost

import (
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// counts are the figures for a monitoring system. They begin at 0 when the host starts.
type counts struct {
	events, clipBytes, uploadBytes atomic.Int64
	games                          atomic.Int64 // files of games that were asked for

	mu       sync.Mutex
	requests map[[2]string]int64 // by route, and class of status
	took     map[string]*[len(buckets) + 1]int64
}

// buckets are the upper ends, in seconds, in which times of answers are counted; the last one has none.
var buckets = [...]float64{0.005, 0.02, 0.1, 0.5, 2, 10}

func (c *counts) request(route string, status int, took time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.requests == nil {
		c.requests, c.took = map[[2]string]int64{}, map[string]*[len(buckets) + 1]int64{}
	}
	if c.took[route] == nil {
		c.took[route] = &[len(buckets) + 1]int64{}
	}
	at, _ := slices.BinarySearch(buckets[:], took.Seconds())
	c.took[route][at]++
	c.requests[[2]string{route, fmt.Sprintf("%dxx", status/100)}]++
}

// metrics answers in the OpenMetrics text format 1.0, with figures of this process and of the data.
func (h *Host) metrics(w http.ResponseWriter, r *http.Request) {
	var b strings.Builder
	one := func(name, kind, help string, value int64) {
		suffix := ""
		if kind == "counter" {
			suffix = "_total"
		}
		fmt.Fprintf(&b, "# TYPE %s %s\n# HELP %s %s\n%s%s %d\n", name, kind, name, help, name, suffix, value)
	}
	h.counts.mu.Lock()
	fmt.Fprintf(&b, "# TYPE havvel_host_requests counter\n# HELP havvel_host_requests Requests of owners and testers, by route.\n")
	for _, key := range slices.SortedFunc(maps.Keys(h.counts.requests), func(a, b [2]string) int { return slices.Compare(a[:], b[:]) }) {
		fmt.Fprintf(&b, "havvel_host_requests_total{route=%q,status=%q} %d\n", key[0], key[1], h.counts.requests[key])
	}
	fmt.Fprintf(&b, "# TYPE havvel_host_answer_seconds histogram\n# UNIT havvel_host_answer_seconds seconds\n"+
		"# HELP havvel_host_answer_seconds How long answers took, by route.\n")
	for _, route := range slices.Sorted(maps.Keys(h.counts.took)) {
		sum := int64(0)
		for i, n := range h.counts.took[route] {
			end := "+Inf"
			if i < len(buckets) {
				end = strconv.FormatFloat(buckets[i], 'f', -1, 64)
			}
			sum += n
			fmt.Fprintf(&b, "havvel_host_answer_seconds_bucket{route=%q,le=%q} %d\n", route, end, sum)
		}
	}
	h.counts.mu.Unlock()
	one("havvel_host_game_requests", "counter", "Files of games that were asked for.", h.counts.games.Load())
	one("havvel_host_events", "counter", "Events that were kept.", h.counts.events.Load())
	one("havvel_host_clip_bytes", "counter", "Bytes of clips that were kept.", h.counts.clipBytes.Load())
	one("havvel_host_upload_bytes", "counter", "Bytes of archives that were kept.", h.counts.uploadBytes.Load())
	for _, g := range []struct{ name, help, query string }{
		{"havvel_host_builds", "Builds that are ready.", "SELECT COUNT(*) FROM builds WHERE state = 'ready'"},
		{"havvel_host_sessions", "Sessions of which something is kept.", "SELECT COALESCE(SUM(testers + simulated), 0) FROM rounds"},
		{"havvel_host_content_bytes", "Bytes of all contents, each counted once.", "SELECT COALESCE(SUM(bytes), 0) FROM contents"},
	} {
		var n int64
		if err := h.data.row(r.Context(), g.query).Scan(&n); err != nil {
			h.fail(w, err)
			return
		}
		one(g.name, "gauge", g.help, n)
	}
	var open int64
	if err := h.data.row(r.Context(), "SELECT COUNT(*) FROM rounds WHERE closed = 0 AND until > ?",
		seconds(h.options.Now())).Scan(&open); err != nil {
		h.fail(w, err)
		return
	}
	one("havvel_host_open_rounds", "gauge", "Rounds that are open.", open)
	w.Header().Set("Content-Type", "application/openmetrics-text; version=1.0.0; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	fmt.Fprint(w, b.String(), "# EOF\n")
}
