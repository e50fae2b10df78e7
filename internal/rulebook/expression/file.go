package expression

import (
	"io"
	"os"
)

// A File is one that a step can send: whole, or a piece of one.
type File struct {
	Name   string `expr:"name"`   // of a file in a folder; of a picture, the portal's name of its place
	Bytes  int    `expr:"bytes"`  // of the file, or of the piece
	SHA256 string `expr:"sha256"` // in hexadecimal digits; of a piece, sha256(piece) gives it
	Type   string `expr:"type"`   // its content type
	Number int    `expr:"number"` // of a piece or a picture, from 1
	Offset int    `expr:"offset"` // of a piece: where it begins
	End    int    `expr:"end"`    // of a piece: its last byte
	Total  int    `expr:"total"`  // of a piece: the bytes of the whole file
	About  string `expr:"about"`  // of a picture: what it shows
	path   string
	whole  string // the SHA-256 of the file that this is a piece of
}

// At returns the file with its path on this machine, which expressions don't see.
func (f File) At(path string) File {
	f.path = path
	return f
}

// Path is where the file is on this machine.
func (f File) Path() string { return f.path }

// Whole is the SHA-256 of the file that this is a piece of; "" of a whole file.
func (f File) Whole() string { return f.whole }

// Open opens it for reading: its own bytes only.
func (f File) Open() (io.ReadSeekCloser, error) {
	file, err := os.Open(f.path)
	if err != nil {
		return nil, err
	}
	return section{io.NewSectionReader(file, int64(f.Offset), int64(f.Bytes)), file}, nil
}

type section struct {
	*io.SectionReader
	io.Closer
}
