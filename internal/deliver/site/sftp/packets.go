package sftp

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"golang.org/x/crypto/ssh"
)

// packets speaks SFTP, version 3 (draft-ietf-secsh-filexfer-02), as far as copying ranges needs it, which the client doesn't know. Many
// requests are on their way before the first answer is read.
type packets struct {
	session *ssh.Session
	to      io.WriteCloser
	from    *bufio.Reader
	id      uint32
	waiting int // requests without an answer
}

// Types of packets (section 3), and how files are opened (section 6.3).
const (
	typeInit     = 1
	typeVersion  = 2
	typeOpen     = 3
	typeClose    = 4
	typeWrite    = 6
	typeStatus   = 101
	typeHandle   = 102
	typeExtended = 200

	forReading = 0x01
	forWriting = 0x02
	create     = 0x08
	truncate   = 0x10
)

// inFlight is how many requests may wait for their answers.
const inFlight = 128

// longest is more than any answer that is waited for has, in bytes.
const longest = 64 << 10

// status is a host's answer that says no.
type status struct {
	code uint32
	text string
}

func (e *status) Error() string { return fmt.Sprintf("%s (SFTP status %d)", e.text, e.code) }

func openPackets(on *ssh.Client) (*packets, error) {
	session, err := on.NewSession()
	if err != nil {
		return nil, &status{text: "no second channel: " + err.Error()}
	}
	p := &packets{session: session}
	if p.to, err = session.StdinPipe(); err == nil {
		var from io.Reader
		if from, err = session.StdoutPipe(); err == nil {
			p.from = bufio.NewReader(from)
			err = session.RequestSubsystem("sftp")
		}
	}
	if err == nil {
		err = p.packet(typeInit, binary.BigEndian.AppendUint32(nil, 3))
	}
	var kind byte
	if err == nil {
		kind, _, err = p.answer()
	}
	if err == nil && kind != typeVersion {
		err = fmt.Errorf("the host begins with an answer of type %d", kind)
	}
	if err != nil {
		session.Close()
		return nil, err
	}
	return p, nil
}

func (p *packets) close() { p.session.Close() }

func (p *packets) packet(kind byte, body []byte) error {
	data := binary.BigEndian.AppendUint32(make([]byte, 0, 5+len(body)), uint32(1+len(body)))
	_, err := p.to.Write(append(append(data, kind), body...))
	return err
}

// answer reads a packet.
func (p *packets) answer() (kind byte, body []byte, err error) {
	var head [5]byte
	if _, err := io.ReadFull(p.from, head[:]); err != nil {
		return 0, nil, err
	}
	n := binary.BigEndian.Uint32(head[:])
	if n == 0 || n > longest {
		return 0, nil, fmt.Errorf("an answer of %d bytes", n)
	}
	body = make([]byte, n-1)
	_, err = io.ReadFull(p.from, body)
	return head[4], body, err
}

// request sends one, after some of those before were answered, if they are many.
func (p *packets) request(kind byte, parts ...any) error {
	if err := p.drain(inFlight - 1); err != nil {
		return err
	}
	p.id++
	body := binary.BigEndian.AppendUint32(nil, p.id)
	for _, part := range parts {
		switch v := part.(type) {
		case uint32:
			body = binary.BigEndian.AppendUint32(body, v)
		case int64:
			body = binary.BigEndian.AppendUint64(body, uint64(v))
		case string:
			body = append(binary.BigEndian.AppendUint32(body, uint32(len(v))), v...)
		case []byte:
			body = append(binary.BigEndian.AppendUint32(body, uint32(len(v))), v...)
		}
	}
	p.waiting++
	return p.packet(kind, body)
}

// drain reads answers until no more than some requests wait. All of them must be yes.
func (p *packets) drain(to int) error {
	for p.waiting > to {
		if _, err := p.reply(typeStatus); err != nil {
			return err
		}
	}
	return nil
}

// reply reads the answer to a request, of a type; of a status, it must be yes.
func (p *packets) reply(want byte) ([]byte, error) {
	kind, body, err := p.answer()
	if err != nil {
		return nil, err
	}
	p.waiting--
	if len(body) < 8 {
		return nil, errors.New("an answer that is too short")
	}
	body = body[4:] // without the request's number: those that wait are alike
	if kind == typeStatus {
		if code := binary.BigEndian.Uint32(body); code != 0 {
			text, _ := text(body[4:])
			return nil, &status{code, text}
		}
	}
	if kind != want {
		return nil, fmt.Errorf("an answer of type %d", kind)
	}
	return body, nil
}

// text is the string at the beginning of data.
func text(data []byte) (string, bool) {
	if len(data) < 4 {
		return "", false
	}
	n := binary.BigEndian.Uint32(data)
	if uint64(n) > uint64(len(data)-4) {
		return "", false
	}
	return string(data[4 : 4+n]), true
}

// open opens a file, and returns its handle.
func (p *packets) open(name string, flags uint32) (string, error) {
	if err := p.drain(0); err != nil {
		return "", err
	}
	if err := p.request(typeOpen, name, flags, uint32(0)); err != nil {
		return "", err
	}
	body, err := p.reply(typeHandle)
	if err != nil {
		return "", err
	}
	handle, ok := text(body)
	if !ok {
		return "", errors.New("a handle that is cut off")
	}
	return handle, nil
}

func (p *packets) write(handle string, at int64, data []byte) error {
	return p.request(typeWrite, handle, at, data)
}

func (p *packets) copy(from, to string, offset, at, bytes int64) error {
	return p.request(typeExtended, copying, from, offset, bytes, to, at)
}

func (p *packets) closeHandle(handle string) error {
	if err := p.request(typeClose, handle); err != nil {
		return err
	}
	return p.drain(0)
}
