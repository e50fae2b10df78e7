package hosting

import "testing"

func TestSend(t *testing.T) {
	none, gzip := Host{}, Host{Encodings: []string{"gzip"}}
	for _, c := range []struct {
		host           Host
		name, encoding string
		want           Sent
	}{
		{none, "lane.js", "", Sent{"text/javascript; charset=utf-8", ""}},
		{none, "Lane.WASM", "", Sent{"application/wasm", ""}},
		{none, "lane.wasm.gz", "gzip", Sent{"application/octet-stream", ""}},
		{gzip, "lane.wasm.gz", "gzip", Sent{"application/wasm", "gzip"}},
		{gzip, "lane.wasm.br", "br", Sent{"application/octet-stream", ""}},
		{gzip, "lane.wasm.gz", "", Sent{"application/gzip", ""}}, // whose bytes are not
		{gzip, "lane.pack", "gzip", Sent{"application/octet-stream", ""}},
		{Any, "lane.css.br", "br", Sent{"text/css; charset=utf-8", "br"}},
		{Any, "archive.gz", "gzip", Sent{"application/gzip", ""}},
	} {
		if got := c.host.Send(c.name, c.encoding); got != c.want {
			t.Errorf("%s (%s) comes as %+v, want %+v", c.name, c.encoding, got, c.want)
		}
	}
}
