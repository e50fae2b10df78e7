package idle

import (
	"errors"
	"io"
	"net"
	"testing"
	"testing/synctest"
	"time"
)

// pair is a connection with a limit of half a minute, and its other end.
func pair(t *testing.T, wrap func(net.Conn, time.Duration) net.Conn) (net.Conn, net.Conn) {
	near, far := net.Pipe()
	t.Cleanup(func() { near.Close(); far.Close() })
	return wrap(near, Limit), far
}

func silent(t *testing.T, began time.Time, err error, after time.Duration) {
	t.Helper()
	var e *Silent
	if took := time.Since(began); !errors.As(err, &e) || took != after {
		t.Errorf("%v after %v, want silence after %v", err, took, after)
	}
}

func TestFrozen(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		near, _ := pair(t, Conn)
		began := time.Now()
		_, err := near.Read(make([]byte, 1))
		silent(t, began, err, Limit)
		began = time.Now()
		_, err = near.Write(make([]byte, 100_000))
		silent(t, began, err, Limit)
	})
}

// TestSlow: a line on which a little comes, or goes, now and then, is none that stands still.
func TestSlow(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		near, far := pair(t, Conn)
		go func() { // the answer comes when all has arrived, slowly
			buffer := make([]byte, 16<<10)
			for range 20 {
				time.Sleep(20 * time.Second)
				io.ReadFull(far, buffer)
			}
			far.Write([]byte("k"))
		}()
		read := make(chan error)
		go func() {
			_, err := near.Read(make([]byte, 1))
			read <- err
		}()
		if _, err := near.Write(make([]byte, 20*16<<10)); err != nil {
			t.Error(err)
		}
		if err := <-read; err != nil {
			t.Error(err)
		}
	})
}

// TestAnswering: what goes out is no sign of life where answers must come.
func TestAnswering(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		near, far := pair(t, Answering)
		go io.Copy(io.Discard, far)
		done := make(chan bool)
		go func() {
			defer close(done)
			for range 4 {
				near.Write([]byte("are you there?"))
				time.Sleep(10 * time.Second)
			}
		}()
		began := time.Now()
		_, err := near.Read(make([]byte, 1))
		silent(t, began, err, Limit)
		<-done
		far.Close()
	})
}
