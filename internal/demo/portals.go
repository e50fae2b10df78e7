package demo

import (
	_ "embed"
	"net"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"havvel/internal/standin"
)

//go:embed portals/brackwater-1.js
var brackwaterScript string

// PracticeKey is what every stand-in takes as a key, and PracticePair where the key is a pair. They open nothing else.
const (
	PracticeKey  = "practice-only-lantern-oil"
	PracticePair = "moth:" + PracticeKey
)

// A StandIn is a simulated portal of the demo world.
type StandIn struct {
	Rulebook string // that ships
	Key      string
	Path     string // of its interface, below its address
	Options  standin.Options
}

// StandIns lists the simulated portals, each keeping its data in a folder below one.
func StandIns(folder string) []StandIn {
	return []StandIn{
		{"brackwater", PracticeKey, "", Brackwater(filepath.Join(folder, "brackwater"))},
		{"quillmarsh", PracticePair, "/api", quillmarsh(filepath.Join(folder, "quillmarsh"))},
		{"osierfold", PracticePair, "", osierfold(filepath.Join(folder, "osierfold"))},
	}
}

// Addresses are those of all stand-ins, by their rulebooks' names, on ports from that of the first on.
func Addresses(first string) (map[string]string, error) {
	list := map[string]string{}
	for i, x := range StandIns("") {
		at, err := following(first, i)
		if err != nil {
			return nil, err
		}
		list[x.Rulebook] = "http://" + at + x.Path
	}
	return list, nil
}

func following(first string, n int) (string, error) {
	host, port, err := net.SplitHostPort(first)
	if err != nil {
		return "", err
	}
	number, err := strconv.Atoi(port)
	return net.JoinHostPort(host, strconv.Itoa(number+n)), err
}

// Open starts all stand-ins, each keeping its data in a folder below one, on ports from that of the first on.
func Open(folder, first string) ([]*standin.Portal, error) {
	var open []*standin.Portal
	for i, x := range StandIns(folder) {
		at, err := following(first, i)
		if err == nil {
			var p *standin.Portal
			if p, err = standin.Start(at, x.Options); err == nil {
				open = append(open, p)
				continue
			}
		}
		for _, p := range open {
			p.Stop()
		}
		return nil, err
	}
	return open, nil
}

// Keys lists the environment variables that let uploaders in.
func Keys() []string {
	var list []string
	for _, x := range StandIns("") {
		list = append(list, strings.ToUpper(x.Rulebook)+"_KEY="+x.Key)
	}
	return list
}

// Brackwater is the stand-in of the arcade, keeping its data in folder.
func Brackwater(folder string) standin.Options {
	return standin.Options{
		Kind: standin.Arcade, Name: "Brackwater", Folder: folder, Token: PracticeKey,
		Scripts:   map[string]string{"brackwater-1.js": brackwaterScript},
		Wants:     "/sdk/brackwater-1.js",
		Encodings: []string{"gzip"},
		Frame:     [2]int{960, 540}, VerifyTime: 1200 * time.Millisecond,
		Page: standin.PageRules{
			Fields: map[string]standin.FieldRule{
				"title": {Limit: 50}, "tagline": {Limit: 110}, "about": {Limit: 6000}, "how": {Limit: 1500},
				"category": {OneOf: []string{"Puzzle", "Action", "Racing", "Cards", "Sports", "Strategy", "Together"}},
			},
			Pictures: map[string]standin.PictureRule{
				"cover": {
					Width:  640,
					Height: 360,
					Bytes:  250_000,
				}, "icon": {Width: 256, Height: 256, Bytes: 120_000}, "shots": {Width: 1280, Height: 720, Bytes: 450_000, Most: 6},
				"reel": {Bytes: 900_000},
			},
		},
	}
}

// quillmarsh is the stand-in of the open host of pages.
func quillmarsh(folder string) standin.Options {
	return standin.Options{
		Kind: standin.Pages, Name: "Quillmarsh", Folder: folder, Token: PracticeKey, Encodings: []string{"gzip", "br"}, Isolation: true,
		Frame: [2]int{1024, 640},
		Page: standin.PageRules{
			Fields: map[string]standin.FieldRule{
				"title": {
					Limit: 80,
				}, "tagline": {Limit: 160}, "text": {Limit: 40_000}, "kind": {OneOf: []string{"puzzle", "story", "arcade", "tool", "toy", "other"}},
			},
			Pictures: map[string]standin.PictureRule{
				"card": {
					Width:  640,
					Height: 480,
					Bytes:  500_000,
				}, "banner": {Width: 1200, Height: 260}, "ground": {Bytes: 300_000}, "screens": {Bytes: 1_000_000, Most: 8},
				"moving": {Width: 480, Height: 270, Bytes: 1_000_000},
			},
		},
	}
}

// osierfold is the stand-in of the portal where people decide.
func osierfold(folder string) standin.Options {
	return standin.Options{
		Kind: standin.Desk, Name: "Osierfold", Folder: folder, Token: PracticeKey,
		Wants: "https://play.osierfold.example/osierfold.js", Frame: [2]int{800, 450}, VerifyTime: 800 * time.Millisecond,
		Page: standin.PageRules{
			Fields: map[string]standin.FieldRule{"tagline": {Limit: 200}, "text": {Limit: 4000}, "how": {Limit: 600}},
			Pictures: map[string]standin.PictureRule{
				"wide": {
					Width:  1120,
					Height: 560,
					Bytes:  400_000,
				}, "square": {Width: 560, Height: 560, Bytes: 300_000}, "screens": {Bytes: 500_000, Most: 5}, "preview": {Bytes: 600_000},
			},
		},
	}
}
