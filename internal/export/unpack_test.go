package export

import (
	"bytes"
	"compress/gzip"
	"testing"
)

// TestUnpacker: who unpacks a compressed file, by what scripts do with its bytes, by its name, and by what a trial saw.
func TestUnpacker(t *testing.T) {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	z.Write(bytes.Repeat([]byte("every lantern on the lane "), 40))
	z.Close()
	const page = `<!doctype html><script type=module src=game.js></script>`
	const unpack = `.body.pipeThrough(new DecompressionStream("gzip"))`
	for name, c := range map[string]struct {
		script string
		want   Unpacker
		seen   *Sight
	}{
		"lane.gz":      {`fetch("lane.gz").then(r => r` + unpack + `)`, ByGame, nil},
		"lane.json.gz": {`fetch("lane.json.gz").then(r => r.json())`, ByHost, nil},
		"lane.pack.gz": {`fetch("lane.pack.gz").then(r => r.arrayBuffer()).then(use)`, ByHost, nil},
		"lane.level":   {`fetch("lane.level").then(r => r.json())`, ByNobody, nil},
		"other.level":  {`fetch("other.level").then(r => r.arrayBuffer()).then(use)`, Untold, nil},
		"unsure.gz":    {`fetch("unsure.gz").then(r => r.arrayBuffer()).then(use); function never(r) { return r` + unpack + ` }`, Untold, nil},
		"seen.gz": {`fetch("seen.gz").then(r => r.arrayBuffer()).then(use); function never(r) { return r` + unpack + ` }`, ByGame,
			&Sight{Path: "seen.gz", Worked: true}},
		"seen-served.gz": {`fetch("seen-served.gz").then(r => r.arrayBuffer()).then(use); function never(r) { return r` + unpack + ` }`,
			ByHost, &Sight{Path: "seen-served.gz", Worked: true, Sent: "gzip"}},
		"failed.gz": {`fetch("failed.gz").then(r => r.arrayBuffer()).then(use); function never(r) { return r` + unpack + ` }`, Untold,
			&Sight{Path: "failed.gz"}},
		"unnamed.gz": {`fetch(location.hash).then(r => r` + unpack + `)`, ByGame, nil},
	} {
		build := readFiles(t, map[string]string{"index.html": page, "game.js": c.script, name: b.String()})
		if c.seen != nil {
			build.See([]Sight{*c.seen})
		}
		if who, _ := build.Unpacker(build.File(name)); who != c.want {
			t.Errorf("%s: %s, want %s", name, who, c.want)
		}
	}
}
