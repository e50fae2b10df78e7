package demo

import (
	_ "embed"
	"path/filepath"
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
		{"quillmarsh", PracticePair, "/api", Quillmarsh(filepath.Join(folder, "quillmarsh"))},
		{"osierfold", PracticePair, "", Osierfold(filepath.Join(folder, "osierfold"))},
	}
}

// Brackwater is the stand-in of the arcade, keeping its data in folder.
func Brackwater(folder string) standin.Options {
	return standin.Options{
		Kind: standin.Arcade, Name: "Brackwater", Folder: folder, Token: PracticeKey,
		Scripts:   map[string]string{"brackwater-1.js": brackwaterScript},
		Wants:     "/sdk/brackwater-1.js",
		Encodings: []string{"gzip"},
		Frame:     [2]int{960, 540}, VerifyTime: 1200 * time.Millisecond,
	}
}

// Quillmarsh is the stand-in of the open host of pages.
func Quillmarsh(folder string) standin.Options {
	return standin.Options{Kind: standin.Pages, Name: "Quillmarsh", Folder: folder, Token: PracticeKey, Encodings: []string{"gzip", "br"}, Isolation: true, Frame: [2]int{1024, 640}}
}

// Osierfold is the stand-in of the portal where people decide.
func Osierfold(folder string) standin.Options {
	return standin.Options{
		Kind: standin.Desk, Name: "Osierfold", Folder: folder, Token: PracticeKey,
		Wants: "https://play.osierfold.example/osierfold.js", Frame: [2]int{800, 450}, VerifyTime: 800 * time.Millisecond,
	}
}
