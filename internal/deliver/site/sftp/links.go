package sftp

import (
	"context"
	"net"
	"sync"
	"sync/atomic"
	"time"

	client "github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"havvel/internal/deliver/site"
	"havvel/internal/deliver/site/idle"
)

// A link is one connection to the host.
type link struct {
	conn  *ssh.Client
	c     *client.Client
	ended chan error // why it ended
}

// A dialer opens connections to one host as one user.
type dialer struct {
	host  string // with its port
	login Login
}

// dialLimit is how long a host may take to answer.
const dialLimit = 20 * time.Second

// open opens a connection, which ends with the context.
func (d dialer) open(ctx context.Context) (*link, error) {
	config, err := d.login.config(d.host)
	if err != nil {
		return nil, err
	}
	tcp := net.Dialer{Timeout: dialLimit, KeepAlive: 15 * time.Second}
	conn, err := tcp.DialContext(ctx, "tcp", d.host)
	if err != nil {
		return nil, &site.Unreachable{Host: d.host, Cause: err}
	}
	conn = idle.Answering(conn, idle.Limit)
	c, channels, requests, err := ssh.NewClientConn(conn, d.host, config)
	if err != nil {
		conn.Close()
		return nil, d.login.refused(d.host, err)
	}
	l := &link{conn: ssh.NewClient(c, channels, requests), ended: make(chan error, 1)}
	go l.alive()
	go func() { l.ended <- l.conn.Wait() }()
	if l.c, err = client.NewClient(l.conn, client.UseConcurrentWrites(true), client.UseConcurrentReads(true)); err != nil {
		l.conn.Close()
		return nil, &site.Refused{
			Host:  d.host,
			Why:   "it has no SFTP: " + err.Error(),
			Next:  "ask the people who run the host to allow it",
			Cause: err,
		}
	}
	context.AfterFunc(ctx, func() { l.conn.Close() }) // ends what waits
	return l, nil
}

// alive has the host answer all the time, so that silence means that it doesn't (RFC 4254 section 4: what it doesn't know it refuses).
func (l *link) alive() {
	for {
		if _, _, err := l.conn.SendRequest("keepalive@openssh.com", true, nil); err != nil {
			return
		}
		time.Sleep(idle.Limit / 3)
	}
}

func (l *link) close() {
	l.c.Close()
	l.conn.Close()
}

// mostLinks are used at once on a long line, where one connection has too little on its way.
const mostLinks = 4

// far is the time of an answer from which on a line is long.
const far = 10 * time.Millisecond

// links are the connections of a store. The first carries everything until more are wanted and there.
type links struct {
	first *link
	next  atomic.Uint32

	mu    sync.Mutex
	all   []*link
	begun bool
	ended bool
}

// pick is the connection for the next piece of work.
func (p *links) pick() *client.Client {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.all[int(p.next.Add(1))%len(p.all)].c
}

// more opens more connections, beside the work that goes on. A host that lets no more in is left with those that it has.
func (p *links) more(ctx context.Context, d dialer) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.begun {
		return
	}
	p.begun = true
	for range mostLinks - 1 {
		go func() {
			l, err := d.open(ctx)
			if err != nil {
				return
			}
			p.mu.Lock()
			defer p.mu.Unlock()
			if p.ended {
				l.close()
				return
			}
			p.all = append(p.all, l)
		}()
	}
}

func (p *links) close() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.ended = true
	for _, l := range p.all {
		l.close()
	}
}
