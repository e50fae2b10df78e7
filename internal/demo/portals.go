package demo

import (
	_ "embed"
	"time"

	"havvel/internal/standin"
)

//go:embed portals/brackwater-1.js
var brackwaterScript string

// PracticeKey is what every stand-in takes as a key. It opens nothing else.
const PracticeKey = "practice-only-lantern-oil"

// Brackwater is the stand-in of the arcade, keeping its data in folder.
func Brackwater(folder string) standin.Options {
	return standin.Options{
		Name:       "Brackwater",
		Folder:     folder,
		Token:      PracticeKey,
		Scripts:    map[string]string{"brackwater-1.js": brackwaterScript},
		Wants:      "/sdk/brackwater-1.js",
		Frame:      [2]int{960, 540},
		VerifyTime: 1200 * time.Millisecond,
	}
}
