package pack

import (
	"bytes"
	"crypto/sha256"
	"encoding"
	"encoding/gob"
	"encoding/hex"
	"hash"
	"io"

	"havvel/internal/atomicfile"
	"havvel/internal/disk"
	"havvel/internal/pack/deflate"
)

// A summer works out an archive's SHA-256. That takes longer than writing the archive, and can't be shared between cores;
// so its state is kept at several places, by what the archive holds up to there. An archive that begins like one before
// goes on from the last such place.
type summer struct {
	hash.Hash
	path   string
	chain  [][sha256.Size]byte // what the archive holds up to the end of each entry
	from   int                 // the entry after which hashing begins; -1 from the start
	at     int64               // bytes written
	last   int64               // bytes at the last mark
	states []state             // of this archive
	known  []state             // of earlier ones
	broken bool                // what was kept does not fit
	idle   bool                // nobody asks for the sum
}

// state is a hash's state at one place.
type state struct {
	Chain [sha256.Size]byte
	At    int64
	Hash  []byte
}

const (
	betweenMarks = 8 << 20 // bytes of the archive
	mostStates   = 200
)

func newSummer(path string, items []*Item, streams []*deflate.Stream, idle bool) *summer {
	s := &summer{Hash: sha256.New(), path: path, from: -1, idle: idle}
	link := sha256.Sum256([]byte("havvel-zip/1"))
	for i, it := range items {
		link = sha256.Sum256(append(append(link[:], it.Name...), streams[i].Key()...))
		s.chain = append(s.chain, link)
	}
	if idle {
		return s
	}
	if data, ok := atomicfile.Kept(path); !ok || gob.NewDecoder(bytes.NewReader(data)).Decode(&s.known) != nil {
		s.known = nil
	}
	for i := len(s.chain) - 1; i >= 0 && s.from < 0; i-- {
		if s.find(i) != nil {
			s.from = i
		}
	}
	return s
}

func (s *summer) find(i int) *state {
	for k := range s.known {
		if s.known[k].Chain == s.chain[i] {
			return &s.known[k]
		}
	}
	return nil
}

// Write implements io.Writer.
func (s *summer) Write(p []byte) (int, error) {
	s.at += int64(len(p))
	if s.from >= 0 || s.idle {
		return len(p), nil
	}
	return s.Hash.Write(p)
}

// wants reports whether mark is to be called once all bytes up to the end of an entry are written.
func (s *summer) wants(entry int) bool {
	return !s.idle && (entry == s.from || s.from < 0 && s.at-s.last >= betweenMarks)
}

// mark takes up the state at the end of an entry, or keeps it.
func (s *summer) mark(entry int) {
	s.last = s.at
	if entry == s.from {
		s.from = -1
		kept := s.find(entry)
		if kept.At != s.at || s.Hash.(encoding.BinaryUnmarshaler).UnmarshalBinary(kept.Hash) != nil {
			s.broken = true
		}
		s.states = append(s.states, *kept)
		return
	}
	if h, err := s.Hash.(encoding.BinaryMarshaler).MarshalBinary(); err == nil {
		s.states = append(s.states, state{s.chain[entry], s.at, h})
	}
}

// hex returns the sum of the archive, which f holds; "" where nobody asks.
func (s *summer) hex(f disk.File, size int64) (string, error) {
	if s.idle {
		return "", nil
	}
	if s.broken {
		s.Hash.Reset()
		if _, err := io.Copy(s.Hash, io.NewSectionReader(f, 0, size)); err != nil {
			return "", err
		}
		s.states = nil
	}
	s.save()
	return hex.EncodeToString(s.Hash.Sum(nil)), nil
}

// save keeps the states of this archive and the latest of earlier ones. It makes no difference to the answer when it fails.
func (s *summer) save() {
	if len(s.states) == 0 && !s.broken {
		return
	}
	all := s.states
	for _, k := range s.known {
		if len(all) < mostStates && !s.broken {
			all = append(all, k)
		}
	}
	var b bytes.Buffer
	if gob.NewEncoder(&b).Encode(all) == nil {
		_ = atomicfile.Keep(s.path, b.Bytes())
	}
}
