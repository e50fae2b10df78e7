package serve

import (
	"net/http"
	"time"
)

// noting is a response that is noted while it is written.
type noting struct {
	http.ResponseWriter
	served Served
}

func (n *noting) WriteHeader(status int) {
	n.served.Status = status
	n.ResponseWriter.WriteHeader(status)
}

func (n *noting) Write(data []byte) (int, error) {
	sent, err := n.ResponseWriter.Write(data)
	n.served.Bytes += int64(sent)
	return sent, err
}

// Unwrap is for http.ResponseController.
func (n *noting) Unwrap() http.ResponseWriter { return n.ResponseWriter }

func (n *noting) done() Served {
	h := n.Header()
	n.served.Ended, n.served.Type, n.served.Encoding = time.Now(), h.Get("Content-Type"), h.Get("Content-Encoding")
	return n.served
}
