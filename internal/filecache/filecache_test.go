package filecache

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"testing"
	"time"
)

// TestAnswer: bodies of all sizes come as they are, one after another over one connection, also of HEAD, in ranges and when they did
// not change.
func TestAnswer(t *testing.T) {
	body := func(n int) []byte { return bytes.Repeat([]byte("lantern\n"), n/8+1)[:n] }
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n, _ := strconv.Atoi(r.URL.Path[1:])
		NewReady(http.Header{"Etag": {`"x"`}, "Content-Type": {"text/plain"}}, body(n)).Answer(w, r)
	})}
	go s.Serve(l)
	defer s.Close()
	for range 2 {
		for _, n := range []int{0, 1, 511, 512, 513, 1024, 1025, 4096, 4097, 60_000, 3 << 20} {
			for _, c := range []struct {
				method, header, value string
				status                int
				want                  []byte
			}{{"GET", "X", "", 200, body(n)}, {"HEAD", "X", "", 200, nil}, {"GET", "Range", "bytes=0-0", 206, body(1)},
				{"GET", "If-None-Match", `"x"`, 304, nil}} {
				r, _ := http.NewRequest(c.method, fmt.Sprintf("http://%s/%d", l.Addr(), n), nil)
				r.Header.Set(c.header, c.value)
				a, err := http.DefaultClient.Do(r)
				if err != nil {
					t.Fatal(n, c, err)
				}
				got, err := io.ReadAll(a.Body)
				a.Body.Close()
				if n == 0 && c.status == 206 {
					continue // there is nothing to take a part of
				}
				if err != nil || a.StatusCode != c.status || !bytes.Equal(got, c.want) || a.Header.Get("Etag") != `"x"` ||
					c.status != 304 && a.Header.Get("Content-Type") != "text/plain" {
					t.Errorf("%s %d with %s: %d, %d bytes, %v", c.method, n, c.header, a.StatusCode, len(got), err)
				}
			}
		}
	}
}

// TestSilent: a visitor who falls silent in the middle of a request is let go, also after requests that were answered.
func TestSilent(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s := &http.Server{
		ReadHeaderTimeout: 200 * time.Millisecond,
		IdleTimeout:       time.Minute,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			NewReady(http.Header{}, make([]byte, 5000)).Answer(w, r)
		}),
	}
	go s.Serve(l)
	defer s.Close()
	c, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	c.SetDeadline(time.Now().Add(20 * time.Second))
	answers := bufio.NewReader(c)
	for range 3 {
		fmt.Fprint(c, "GET / HTTP/1.1\r\nHost: x\r\n\r\n")
		a, err := http.ReadResponse(answers, nil)
		if err != nil {
			t.Fatal(err)
		}
		if n, err := io.Copy(io.Discard, a.Body); n != 5000 || err != nil {
			t.Fatal(n, err)
		}
	}
	fmt.Fprint(c, "GET / HT")
	if rest, err := io.ReadAll(answers); err != nil {
		t.Errorf("%q, then %v", rest, err)
	}
}
