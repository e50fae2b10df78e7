package wasm

import (
	"bytes"
	"errors"
	"os"
	"slices"
	"strings"
	"testing"
	"testing/iotest"
)

const magic = "\x00asm\x01\x00\x00\x00"

// TestRealModule reads the demo game's module, which a compiler wrote.
func TestRealModule(t *testing.T) {
	data, err := os.ReadFile("../../demo/game/src/rules.wasm")
	if err != nil {
		t.Fatal(err)
	}
	m, err := Read(iotest.OneByteReader(bytes.NewReader(data)))
	if err != nil {
		t.Fatal(err)
	}
	if len(m.Memories) != 1 || m.Memories[0] != (Memory{Initial: 131072, Maximum: 131072}) || m.Exports != 8 || len(m.Imports) != 0 ||
		m.Names ||
		len(m.Features) > 0 {
		t.Errorf("%+v", m)
	}
	// Cut anywhere but between two sections, it is broken, and the place is said.
	whole := 0
	for n := range data {
		m, err := Read(bytes.NewReader(data[:n]))
		var broken *Broken
		if err == nil {
			whole++
		} else if !errors.As(err, &broken) || broken.Offset > int64(n) || m == nil {
			t.Fatalf("cut to %d bytes: %v", n, err)
		}
	}
	if whole > 12 {
		t.Errorf("%d cuts were not noticed", whole)
	}
}

// body wraps instructions as the code section of one function without variables.
func body(instructions string) string {
	f := "\x00" + instructions + "\x0b"
	return magic + "\x0a" + string(rune(len(f)+2)) + "\x01" + string(rune(len(f))) + f
}

func TestFeatures(t *testing.T) {
	for name, c := range map[string]struct {
		module string
		want   []Feature
	}{
		"none":             {body("\x41\x01\x1a"), nil},
		"shared memory":    {magic + "\x05\x04\x01\x03\x01\x02", []Feature{Threads}},
		"64-bit":           {magic + "\x05\x03\x01\x04\x01", []Feature{Memory64}},
		"two memories":     {magic + "\x05\x05\x02\x00\x01\x00\x01", []Feature{MultiMemory}},
		"SIMD":             {body("\xfd\x0c" + strings.Repeat("\x00", 16) + "\x1a"), []Feature{SIMD}},
		"relaxed SIMD":     {body("\xfd\x80\x02"), []Feature{SIMD, RelaxedSIMD}},
		"atomics":          {body("\xfe\x10\x02\x00"), []Feature{Threads}},
		"memory.copy":      {body("\xfc\x0a\x00\x00"), []Feature{BulkMemory}},
		"ref.null":         {body("\xd0\x70\x1a"), []Feature{ReferenceTypes}},
		"return_call":      {body("\x12\x00"), []Feature{TailCalls}},
		"try_table":        {body("\x1f\x40\x01\x02\x00\x0b"), []Feature{Exceptions}},
		"tag section":      {magic + "\x0d\x01\x00", []Feature{Exceptions}},
		"exception type":   {magic + "\x01\x05\x01\x60\x01\x69\x00", []Feature{Exceptions}},
		"exception null":   {magic + "\x01\x06\x01\x60\x01\x63\x69\x00", []Feature{Exceptions}},
		"reference to one": {magic + "\x01\x07\x01\x60\x01\x64\x80\x01\x00", []Feature{GC}},
		"struct type":      {magic + "\x01\x04\x01\x5f\x00\x00", []Feature{GC}},
		"constant as data": {body("\x41\xfd\x00\x44\xfe\xfe\xfe\xfe\xfe\xfe\xfe\xfe"), nil}, // looks like SIMD and atomics, and is not
	} {
		m, err := Read(strings.NewReader(c.module))
		if err != nil || !slices.Equal(m.Features, c.want) {
			t.Errorf("%s: %q, %v", name, m.Features, err)
		}
	}
}

func TestBroken(t *testing.T) {
	for name, module := range map[string]string{
		"empty": "", "text": "<html>", "version 2": "\x00asm\x02\x00\x00\x00", "component": "\x00asm\x0d\x00\x01\x00",
		"no such section": magic + "\x20\x00", "section too short": magic + "\x05\x01\x01\x00\x01", "endless number": magic +
			"\x05\xff\xff\xff\xff\xff\xff",
		"name too long": magic + "\x00\x02\x09n",
	} {
		var broken *Broken
		if _, err := Read(strings.NewReader(module)); !errors.As(err, &broken) {
			t.Errorf("%s: %v", name, err)
		}
	}
	failing := iotest.ErrReader(os.ErrPermission)
	if _, err := Read(failing); !errors.Is(err, os.ErrPermission) {
		t.Errorf("a reader that fails: %v", err)
	}
}

func FuzzRead(f *testing.F) {
	if data, err := os.ReadFile("../../demo/game/src/rules.wasm"); err == nil {
		f.Add(data)
	}
	f.Add([]byte(magic + "\x05\x04\x01\x03\x01\x02"))
	f.Add([]byte(body("\xfc\x0a\x00\x00\xfd\x0c0123456789abcdef\x1f\x40\x01\x02\x00\x0b")))
	f.Fuzz(func(t *testing.T, data []byte) {
		m, err := Read(bytes.NewReader(data))
		var broken *Broken
		if err != nil && !errors.As(err, &broken) {
			t.Fatal(err)
		}
		if len(m.Imports) > len(data) || m.DataBytes < 0 {
			t.Fatalf("%d imports, %d bytes of data in %d bytes", len(m.Imports), m.DataBytes, len(data))
		}
	})
}
