package deliver

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"havvel/internal/deliver/portal"
	"havvel/internal/fault"
	"havvel/internal/pack"
	"havvel/internal/progress"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// A Recording is what a portal answered when a rulebook's recipes were walked, without secrets. It is kept beside the rulebook.
type Recording struct {
	Format  int        `json:"recording"` // 1
	Address string     `json:"address"`   // of the portal
	Title   string     `json:"title"`
	Short   string     `json:"short"`
	Studio  string     `json:"studio"`
	Version string     `json:"version"`
	Bytes   int64      `json:"bytes"` // of the archive
	Parts   []Part     `json:"parts,omitempty"`
	Files   []Part     `json:"files,omitempty"`
	Publish bool       `json:"publish,omitempty"`
	More    []string   `json:"recipes,omitempty"` // walked after the usual ones
	Said    []Exchange `json:"exchanges"`
}

// A Part is a file of what was handed over.
type Part struct {
	Name  string `json:"name"`
	Bytes int64  `json:"bytes"`
}

// An Exchange is one request, and its answer.
type Exchange struct {
	Step    string      `json:"step"`
	Method  string      `json:"method"`
	Address string      `json:"address"` // without its query
	Status  int         `json:"status"`
	Header  http.Header `json:"header"`
	Body    string      `json:"body"`
}

// Recorder has a trace heard, and records what it hears.
type Recorder struct {
	portal.Trace
	Recording
}

// Record begins a recording of a parcel's way.
func Record(trace portal.Trace, g project.Game, address string, p Parcel, publish bool, more []string) *Recorder {
	r := &Recorder{Trace: trace, Recording: Recording{
		Format: 1, Address: address, Title: g.Title, Short: g.Short, Studio: g.Studio, Version: p.Version, Bytes: p.Archive.Bytes,
		Publish: publish, More: more, Said: []Exchange{},
	}}
	for _, part := range p.Archive.Parts {
		r.Parts = append(r.Parts, Part{part.Part, part.Bytes})
	}
	for _, f := range p.Archive.Files {
		r.Files = append(r.Files, Part{f.Name, f.Bytes})
	}
	return r
}

// Asked implements portal.Trace.
func (r *Recorder) Asked(step, method, address string, headers map[string]string, body string) {
	at, _, _ := strings.Cut(address, "?")
	r.Said = append(r.Said, Exchange{Step: step, Method: method, Address: at})
	r.Trace.Asked(step, method, address, headers, body)
}

// Answered implements portal.Trace.
func (r *Recorder) Answered(answer *http.Response, body string) {
	last := &r.Said[len(r.Said)-1]
	last.Status, last.Header, last.Body = answer.StatusCode, http.Header{}, body
	for _, name := range []string{"Content-Type", "Location", "Link", "Etag", "Upload-Offset", "Tus-Extension", "Tus-Checksum-Algorithm"} {
		if v := answer.Header.Get(name); v != "" {
			at, query, _ := strings.Cut(v, "?")
			if query != "" && name != "Link" {
				v = at + "?(query)"
			}
			last.Header.Set(name, v)
		}
	}
	r.Trace.Answered(answer, body)
}

// Replay walks a rulebook's recipes against what was recorded, without the portal. The error says at which step they part.
func Replay(ctx context.Context, r *rulebook.Rulebook, rec *Recording) error {
	game := project.Game{Title: rec.Title, Short: rec.Short, Studio: rec.Studio, Version: rec.Version}
	c := &Courier{Project: &project.Project{Game: game}, Report: progress.None, Now: time.Now, pretends: true}
	folder, err := os.MkdirTemp("", "havvel-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	p, err := rec.parcel(folder)
	if err != nil {
		return err
	}
	host := &replayer{rec: rec}
	server := httptest.NewServer(host)
	defer server.Close()
	host.own = server.URL
	path := ""
	if at, err := url.Parse(rec.Address); err == nil {
		path = at.Path
	}
	d, err := c.Project.Trying(r, server.URL+path)
	if err != nil {
		return err
	}
	_, err = c.Try(ctx, d, p, nil, rec.Publish, rec.More, time.Minute, nil)
	if host.odd != "" {
		return fault.New(fault.No, "%s", host.odd).Then("is that what you changed? havvel rules try --record records it anew")
	}
	if err == nil && host.next < len(rec.Said) && !host.only(rulebookSteps(r.Fill)) {
		x := rec.Said[host.next]
		return fault.New(fault.No, "%d requests were made of %d that were recorded; the next was step %q", host.next, len(rec.Said), x.Step)
	}
	return err
}

func rulebookSteps(steps []rulebook.Step) map[string]bool {
	names := map[string]bool{}
	for _, s := range steps {
		names[s.Step] = true
	}
	return names
}

// parcel is one like that which was recorded: files of the same sizes.
func (rec *Recording) parcel(folder string) (Parcel, error) {
	n := 0
	file := func(bytes int64) (path, sum string, err error) {
		n++
		data := make([]byte, bytes)
		path = filepath.Join(folder, fmt.Sprint(n))
		hash := sha256.Sum256(data)
		return path, hex.EncodeToString(hash[:]), os.WriteFile(path, data, 0o600)
	}
	a := &pack.Archive{Bytes: rec.Bytes}
	var err error
	if a.Path, a.SHA256, err = file(rec.Bytes); err != nil {
		return Parcel{}, err
	}
	for _, x := range rec.Parts {
		path, sum, err := file(x.Bytes)
		if err != nil {
			return Parcel{}, err
		}
		a.Parts = append(a.Parts, pack.Part{Part: x.Name, Path: path, Bytes: x.Bytes, SHA256: sum})
	}
	for _, x := range rec.Files {
		path, sum, err := file(x.Bytes)
		if err != nil {
			return Parcel{}, err
		}
		a.Files = append(a.Files, pack.Content{Name: x.Name, Path: path, Bytes: x.Bytes, SHA256: sum})
	}
	return Parcel{Version: rec.Version, Fingerprint: "recorded", Archive: a}, nil
}

// A replayer answers as was recorded, in the order in which it was.
type replayer struct {
	rec *Recording
	own string

	mu   sync.Mutex
	next int
	odd  string // the first request that wasn't recorded so
}

// only reports whether all that is left belongs to some steps: pages are not filled in when a recording is replayed.
func (h *replayer) only(steps map[string]bool) bool {
	for _, x := range h.rec.Said[h.next:] {
		if !steps[x.Step] {
			return false
		}
	}
	return true
}

func (h *replayer) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	io.Copy(io.Discard, r.Body)
	h.mu.Lock()
	defer h.mu.Unlock()
	for i := h.next; i < len(h.rec.Said); i++ {
		x := h.rec.Said[i]
		at, err := url.Parse(x.Address)
		if err != nil || at.EscapedPath() != r.URL.EscapedPath() && at.Path != r.URL.Path || x.Method != r.Method {
			continue
		}
		h.next = i + 1
		for name, v := range x.Header {
			w.Header().Set(name, h.here(strings.Join(v, ", ")))
		}
		w.WriteHeader(x.Status)
		io.WriteString(w, h.here(x.Body))
		return
	}
	if h.odd == "" {
		h.odd = fmt.Sprintf("%s %s was not asked for when the recording was made", r.Method, r.URL.Path)
		if h.next < len(h.rec.Said) {
			x := h.rec.Said[h.next]
			h.odd += fmt.Sprintf("; then it was step %q, %s %s", x.Step, x.Method, x.Address)
		}
	}
	w.WriteHeader(http.StatusNotFound)
}

// here leads addresses of the portal, and of other hosts that took part, to the replayer.
func (h *replayer) here(text string) string {
	for _, address := range append([]string{h.rec.Address}, addresses(h.rec.Said)...) {
		if at, err := url.Parse(address); err == nil && at.Host != "" {
			text = strings.ReplaceAll(text, at.Scheme+"://"+at.Host, h.own)
		}
	}
	return text
}

func addresses(list []Exchange) []string {
	var out []string
	for _, x := range list {
		out = append(out, x.Address)
	}
	return out
}

// ReadRecording reads a recording.
func ReadRecording(path string) (*Recording, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, fault.New(fault.Usage, "reading the recording: %w", err).Then("havvel rules try FILE --record makes one")
	}
	var r Recording
	if err := json.NewDecoder(bytes.NewReader(data)).Decode(&r); err != nil || r.Format != 1 {
		return nil, fault.New(fault.Usage, "%s is no recording of this version", path).Then("havvel rules try FILE --record makes one anew")
	}
	return &r, nil
}
