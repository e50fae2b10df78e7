// Make draws the pictures, synthesises the sounds and lists the nights of the demo game, and packs them
// into src/lane.pack. It is run by go generate; everything comes from seeds, so that the result is the
// same every time.
package main

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"log"
	"os"
	"path/filepath"
)

type part struct {
	Name   string `json:"name"`
	Type   string `json:"type"`
	Offset int    `json:"offset"` // from the end of the directory
	Length int    `json:"length"`
	bytes  []byte
}

func main() {
	log.SetFlags(0)
	folder := "src"
	if len(os.Args) > 1 {
		folder = os.Args[1]
	}
	letters, table := drawLetters()
	parts := []*part{
		{Name: "nights", Type: "application/json", bytes: encode(nights)},
		{Name: "letters", Type: "application/json", bytes: encode(table)},
		{Name: "letters.png", Type: "image/png", bytes: picture(letters)},
		{Name: "houses.png", Type: "image/png", bytes: picture(drawHouses())},
		{Name: "cobbles.png", Type: "image/png", bytes: picture(drawCobbles())},
		{Name: "mist.png", Type: "image/png", bytes: picture(drawMist())},
	}
	for _, s := range sounds {
		parts = append(parts, &part{Name: s.name, Type: "audio/wav", bytes: wave(s.make())})
	}
	write(filepath.Join(folder, "lane.pack"), pack(parts))
	write(filepath.Join(folder, "backdrop.png"), picture(drawBackdrop()))
	write(filepath.Join(folder, "icon.png"), picture(drawIcon()))
}

// pack writes the data file: "LANE", the length of the directory, the directory as JSON, then the parts.
func pack(parts []*part) []byte {
	at := 0
	for _, p := range parts {
		p.Offset, p.Length = at, len(p.bytes)
		at += len(p.bytes)
	}
	directory := encode(parts)
	var b bytes.Buffer
	b.WriteString("LANE")
	b.Write(binary.LittleEndian.AppendUint32(nil, uint32(len(directory))))
	b.Write(directory)
	for _, p := range parts {
		b.Write(p.bytes)
	}
	return b.Bytes()
}

func encode(v any) []byte {
	data, err := json.Marshal(v)
	if err != nil {
		log.Fatal(err)
	}
	return data
}

func picture(m image.Image) []byte {
	var b bytes.Buffer
	encoder := png.Encoder{CompressionLevel: png.BestCompression}
	if err := encoder.Encode(&b, m); err != nil {
		log.Fatal(err)
	}
	return b.Bytes()
}

func write(path string, data []byte) {
	if err := os.WriteFile(path, data, 0o644); err != nil {
		log.Fatal(err)
	}
	fmt.Printf("%8d  %s\n", len(data), path)
}
