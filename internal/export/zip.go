package export

import (
	"archive/zip"
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"path"
	"strings"
	"time"
)

// Limits on what a zip may hold. No portal takes a build near them; what goes over them is made to
// exhaust the program that unpacks it.
const (
	maxZipFiles = 200_000
	maxZipBytes = 16 << 30
	maxZipRatio = 200      // unpacked to packed, for what unpacks to more than a GB
	maxZipNames = 24 << 20 // of the directory, in bytes
)

type zipFile struct {
	path    string
	file    *os.File
	zip     *zip.Reader
	size    int64
	changed time.Time
	stamp   string
	settled time.Time
	guessed string // the character set that its names were taken for, where it doesn't say
}

func openZip(path string, f *os.File, size int64) (source, error) {
	if directorySize(f, size) > maxZipNames {
		f.Close()
		return nil, &Unreadable{
			Path:   path,
			Reason: "it claims more files than any game has",
			Next:   "make the zip again, from the folder that the engine wrote",
		}
	}
	r, err := zip.NewReader(f, size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		f.Close()
		return nil, &Unreadable{
			Path:   path,
			Reason: "the zip is broken",
			Next:   "make the zip again; its download or copy may have broken off",
			Cause:  err,
		}
	}
	z := &zipFile{path: path, file: f, zip: r, size: size}
	if info, err := f.Stat(); err == nil {
		z.changed = info.ModTime()
		z.stamp, z.settled = stampOf(info)
	}
	return z, nil
}

func (z *zipFile) kind() string { return "zip" }
func (z *zipFile) Close() error { return z.file.Close() }

func (z *zipFile) list() ([]*File, error) {
	if len(z.zip.File) > maxZipFiles {
		return nil, z.refuse("it claims more files than any game has")
	}
	var files []*File
	var total uint64
	seen := map[string]bool{}
	for _, f := range z.zip.File {
		name, guessed, ok := nameOf(f)
		if strings.HasSuffix(name, "/") || !f.Mode().IsRegular() {
			continue
		}
		switch {
		case !ok:
			return nil, z.refuse(fmt.Sprintf("the name %q in it is not the UTF-8 that it says", f.Name))
		case !safeName(name):
			return nil, z.refuse("the name " + name + " leads out of it")
		case seen[name]:
			return nil, z.refuse("the name " + name + " stands in it twice")
		}
		if err := z.readable(f, name); err != nil {
			return nil, err
		}
		seen[name] = true
		z.guessed = cmp.Or(z.guessed, guessed)
		total += f.UncompressedSize64
		if total > maxZipBytes || total > 1<<30 && total/uint64(max(z.size, 1)) > maxZipRatio {
			return nil, z.refuse("it unpacks to far more than any game has")
		}
		files = append(files, &File{
			Path: name, Bytes: int64(f.UncompressedSize64), open: f.Open,
			stamps: stamps{fmt.Sprintf("%d %08x %s", f.UncompressedSize64, f.CRC32, z.stamp), z.settled, z.changed},
		})
	}
	for name := range seen {
		for dir := path.Dir(name); dir != "."; dir = path.Dir(dir) {
			if seen[dir] {
				return nil, z.refuse(dir + " is a file in it, and also the folder of " + name)
			}
		}
	}
	return files, nil
}

func (z *zipFile) refuse(reason string) error {
	return &Unreadable{Path: z.path, Reason: reason, Next: "make the zip again, from the folder that the engine wrote"}
}

// readable says why a file in it can't be read.
func (z *zipFile) readable(f *zip.File, name string) error {
	switch {
	case f.Flags&1 != 0:
		return &Unreadable{Path: z.path, Reason: name + " in it is encrypted", Next: "make the zip again, without a password"}
	case f.Method != zip.Store && f.Method != zip.Deflate:
		return &Unreadable{
			Path: z.path, Reason: fmt.Sprintf("%s in it is packed with %s, which portals and browsers don't unpack", name,
				cmp.Or(methods[f.Method], fmt.Sprintf("method %d", f.Method))),
			Next: "make the zip again, with the method Deflate, or name the folder that the engine wrote",
		}
	}
	return nil
}

// safeName reports whether a name in a zip stays inside the folder it is unpacked to, on every system.
func safeName(name string) bool {
	name = strings.ReplaceAll(name, `\`, "/")
	if name == "" || strings.HasPrefix(name, "/") || strings.ContainsAny(name, "\x00") || len(name) > 1 && name[1] == ':' {
		return false
	}
	clean := path.Clean(name)
	return clean != ".." && !strings.HasPrefix(clean, "../")
}

// directorySize is how much of a zip its directory may take, in bytes, before it is read into memory: from the end record
// (APPNOTE 4.3.16) or its 64-bit form (4.3.14). It is 0 when there is none.
func directorySize(f *os.File, size int64) int64 {
	tail := make([]byte, min(size, 66<<10))
	if _, err := f.ReadAt(tail, size-int64(len(tail))); err != nil {
		return 0
	}
	at := bytes.LastIndex(tail, []byte("PK\x05\x06"))
	if at < 0 || at+22 > len(tail) {
		return 0
	}
	end := size - int64(len(tail)) + int64(at)
	claimed, offset := int64(binary.LittleEndian.Uint32(tail[at+12:])), int64(binary.LittleEndian.Uint32(tail[at+16:]))
	if locator := at - 20; (claimed == 0xffffffff || offset == 0xffffffff) && locator >= 0 &&
		bytes.HasPrefix(tail[locator:], []byte("PK\x06\x07")) {
		var record [56]byte
		if _, err := f.ReadAt(record[:], int64(binary.LittleEndian.Uint64(tail[locator+8:]))); err == nil &&
			bytes.HasPrefix(record[:], []byte("PK\x06\x06")) {
			claimed, offset = int64(binary.LittleEndian.Uint64(record[40:])), int64(binary.LittleEndian.Uint64(record[48:]))
		}
	}
	return min(size, max(claimed, end-offset))
}
