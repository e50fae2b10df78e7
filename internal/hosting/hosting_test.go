package hosting

import "testing"

func TestSend(t *testing.T) {
	none, gzip := Host{}, Host{Encodings: []string{"gzip"}}
	for _, c := range []struct {
		host Host
		name string
		want Sent
	}{
		{none, "lane.js", Sent{"text/javascript; charset=utf-8", ""}},
		{none, "Lane.WASM", Sent{"application/wasm", ""}},
		{none, "lane.wasm.gz", Sent{"application/octet-stream", ""}},
		{gzip, "lane.wasm.gz", Sent{"application/wasm", "gzip"}},
		{gzip, "lane.wasm.br", Sent{"application/octet-stream", ""}},
		{gzip, "lane.wasm.gz", Sent{"application/wasm", "gzip"}}, // whatever its bytes are
		{gzip, "lane.pack", Sent{"application/octet-stream", ""}},
		{Any, "lane.css.br", Sent{"text/css; charset=utf-8", "br"}},
		{Any, "archive.gz", Sent{"application/gzip", ""}},
	} {
		if got := c.host.Send(c.name); got != c.want {
			t.Errorf("%s comes as %+v, want %+v", c.name, got, c.want)
		}
	}
}
