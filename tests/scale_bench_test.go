//go:build unix

package tests

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// BenchmarkScale has many testers tell a playtest host what happens, EVENTS of them in all, over rounds of 300 testers, and looks how long
// answers take, and what it costs to read a round afterwards. On SQLite there is one host; on PostgreSQL and an object store there are two.
func BenchmarkScale(b *testing.B) {
	events := 200_000
	if n, err := strconv.Atoi(os.Getenv("EVENTS")); err == nil {
		events = n
	}
	b.Run("sqlite", func(b *testing.B) {
		data := filepath.Join(b.TempDir(), "shed")
		control, _, _ := hosting(b, data, "--port", "0")
		hv, _ := letIn(b, control, "--data", data)
		for b.Loop() {
			scale(b, hv, []string{control}, events)
		}
	})
	b.Run("postgresql", func(b *testing.B) {
		db, store := database(b), objectStore(b)
		bucket, _, _ := strings.Cut(strings.TrimPrefix(store.address, "s3+http://"), "/tinderwick")
		b.Setenv("PGPASSWORD", guestPassword)
		b.Setenv("HAVVEL_FILES_KEY", "moth:"+guestPassword)
		files := []string{"--files", "s3+http://" + bucket + "/shed"}
		one, games, _ := hosting(b, db.address, append(files, "--port", freePort(b))...)
		two, _, _ := hosting(b, db.address, append(files, "--port", freePort(b), "--url", one, "--games-url", games)...)
		hv, _ := letIn(b, one, append([]string{"--data", db.address}, files...)...)
		for b.Loop() {
			scale(b, hv, []string{one, two}, events)
		}
	})
}

func scale(b *testing.B, hv func(args ...string) ending, hosts []string, events int) {
	b.Helper()
	const perBatch, perSession, perRound, lanes = 50, 2000, 300, 24
	hv("send", "--to", "shed", "--only", "build", "--again", "--no-proof").must(b, 0)
	sessions := max(1, events/perSession)
	var rounds []struct{ ID, Link string }
	for range (sessions + perRound - 1) / perRound {
		rounds = append(rounds, decode[struct{ ID, Link string }](b, hv("round", "open", "--until", "2h", "--json").must(b, 0)))
	}
	client := &http.Client{Timeout: time.Minute, Transport: &http.Transport{MaxIdleConnsPerHost: 2 * lanes}}
	post := func(address string, in any) (body []byte, err error) {
		text, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		answer, err := client.Post(address, "application/json", bytes.NewReader(text))
		if err != nil {
			return nil, err
		}
		defer answer.Body.Close()
		body, err = io.ReadAll(answer.Body)
		if answer.StatusCode >= 300 {
			return body, fmt.Errorf("status %d: %s", answer.StatusCode, body)
		}
		return body, err
	}
	var next atomic.Int64
	var mu sync.Mutex
	var took []time.Duration
	var work sync.WaitGroup
	began := time.Now()
	for range lanes {
		work.Go(func() {
			for {
				n := int(next.Add(1)) - 1
				if n >= sessions {
					return
				}
				_, secret, _ := strings.Cut(rounds[n/perRound].Link, "/r/")
				at := hosts[n%len(hosts)] + "/r/" + secret + "/sessions"
				body, err := post(at, map[string]any{"device": map[string]any{"width": 800, "height": 600}})
				var begun struct{ Session string }
				if err == nil {
					err = json.Unmarshal(body, &begun)
				}
				var own []time.Duration
				for first := 1; err == nil && first <= perSession; first += perBatch {
					var list []sentEvent
					for i := range perBatch {
						list = append(list, sentEvent{first + i, (first + i) * 700, "event", map[string]any{"name": "level-begin", "level": fmt.Sprint((first + i) / 100)}})
					}
					start := time.Now()
					_, err = post(at+"/"+begun.Session+"/events", map[string]any{"events": list})
					own = append(own, time.Since(start))
				}
				if err != nil {
					b.Error(err)
					return
				}
				mu.Lock()
				took = append(took, own...)
				mu.Unlock()
			}
		})
	}
	work.Wait()
	whole := time.Since(began)
	slices.Sort(took)
	of := func(part float64) float64 {
		return took[min(len(took)-1, int(part*float64(len(took))))].Seconds() * 1000
	}
	b.ReportMetric(float64(sessions*perSession)/whole.Seconds(), "events/s")
	b.ReportMetric(of(.5), "ms-median")
	b.ReportMetric(of(.99), "ms-p99")
	b.ReportMetric(of(1), "ms-slowest")
	for name, args := range map[string][]string{"s-list": {"round", "list", "--json"}, "s-report": {"round", "report", rounds[0].ID, "--json"}} {
		start := time.Now()
		hv(args...).must(b, 0)
		b.ReportMetric(time.Since(start).Seconds(), name)
	}
}
