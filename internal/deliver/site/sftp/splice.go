package sftp

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"

	"havvel/internal/deliver/site"
	"havvel/internal/pieces"
)

// copying is the extension with which a host copies ranges between open files (OpenSSH's PROTOCOL, "copy-data").
const copying = "copy-data"

// copied is how much a host copies at one request, so that a broken connection is noticed in between.
const copied = 64 << 20

// written is how much one request writes: every host takes so much (draft-ietf-secsh-filexfer-02, section 3).
const written = 32 << 10

// Splice implements site.Splicer. The file is made beside its name, anew each time: what had to be sent before was little.
func (s *store) Splice(ctx context.Context, f site.File, from []pieces.Range, sent func(int64)) error {
	if _, ok := s.c.HasExtension(copying); !ok {
		return errors.ErrUnsupported
	}
	content, err := f.Open()
	if err != nil {
		return err
	}
	defer content.Close()
	to := s.path(f.Name)
	unfinished := fmt.Sprintf("%s.%.8s.spliced%s", to, f.SHA256, part)
	if err := s.folders(path.Dir(to)); err != nil {
		return s.classify(err)
	}
	err = s.splice(ctx, unfinished, content, from, sent)
	var no *status
	if errors.As(err, &no) {
		s.c.Remove(unfinished) // best effort: it is not taken for whole
		return errors.ErrUnsupported
	}
	if err != nil {
		return s.classify(err)
	}
	info, err := s.c.Stat(unfinished)
	if err != nil {
		return s.classify(err)
	}
	if info.Size() != f.Bytes { // a source that is too short is copied without an error
		s.c.Remove(unfinished)
		return errors.ErrUnsupported
	}
	if has := info.Mode().Perm(); wants(has, s.mode) != has {
		s.c.Chmod(unfinished, wants(has, s.mode))
	}
	return s.classify(s.replace(unfinished, to))
}

// splice has the host fill a file from ranges, over a channel of its own of the first connection.
func (s *store) splice(ctx context.Context, to string, content io.ReadSeeker, from []pieces.Range, sent func(int64)) error {
	p, err := openPackets(s.lines.first.conn)
	if err != nil {
		return err
	}
	defer p.close()
	stop := context.AfterFunc(ctx, p.close)
	defer stop()
	w, err := p.open(to, forWriting|create|truncate)
	if err != nil {
		return err
	}
	sources := map[string]string{} // handles, by names
	buffer := make([]byte, written)
	for _, r := range from {
		if r.From == "" {
			err = p.send(w, r, content, buffer, sent)
		} else {
			if _, ok := sources[r.From]; !ok {
				if sources[r.From], err = p.open(s.path(r.From), forReading); err != nil {
					return err
				}
			}
			for at := int64(0); at < r.Bytes && err == nil; at += copied {
				err = p.copy(sources[r.From], w, r.Offset+at, r.At+at, min(copied, r.Bytes-at))
			}
		}
		if err != nil {
			return err
		}
	}
	if err := p.drain(0); err != nil {
		return err
	}
	return p.closeHandle(w)
}

// send writes a range of a content into an open file.
func (p *packets) send(w string, r pieces.Range, content io.ReadSeeker, buffer []byte, sent func(int64)) error {
	if _, err := content.Seek(r.At, io.SeekStart); err != nil {
		return err
	}
	for at := int64(0); at < r.Bytes; {
		n, err := io.ReadFull(content, buffer[:min(int64(len(buffer)), r.Bytes-at)])
		if err != nil {
			return fmt.Errorf("it changed while it was sent: %w", err)
		}
		if err := p.write(w, r.At+at, buffer[:n]); err != nil {
			return err
		}
		at += int64(n)
		sent(int64(n))
	}
	return nil
}
