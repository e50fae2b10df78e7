package cli

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"havvel/internal/app"
	"havvel/internal/cli/term"
	"havvel/internal/playhost"
	"havvel/internal/settings"
)

// filesVariable names the environment variable with the key of the bucket. The password of a database comes from PGPASSWORD, as with
// its own programs, or from the address.
const filesVariable = "HAVVEL_FILES_KEY"

type hostFlags struct {
	data, files             string
	listen, quota           string
	keep                    duration
	port                    int
	controlURL, gamesURL    string
	certificate, privateKey string
	proxies, webhooks       []string
	drain                   duration
}

func (a *console) host() *cobra.Command {
	f := hostFlags{keep: duration(90 * 24 * time.Hour)}
	c := a.new(command{
		use:   "host",
		short: "Run a playtest host",
		long: "Host runs a host of your own for versions that testers play. It needs nothing but a folder, and takes builds by havvel send " +
			"like\n" +
			"any destination, under the rulebook shed. Games are served on an origin of their own, the next port. Ctrl-C ends it; uploads\n" +
			"that are under way go on when it runs again. When it outgrows one machine, --data names a PostgreSQL server and --files a bucket,\n" +
			"and any number of hosts run beside each other.",
		example: "  havvel host --data shed\n  havvel host --data postgres://host@db.example/shed --files s3://store.example/shed",
		args:    cobra.NoArgs,
		run:     func(ctx context.Context, _ []string) error { return a.runHost(ctx, f) },
	})
	c.PersistentFlags().StringVar(&f.data, "data", "shed-data", "`folder` for all that the host keeps, or postgres://…")
	c.PersistentFlags().
		StringVar(&f.files, "files", "", "`folder` for files, or s3://HOST/BUCKET, which "+filesVariable+"=ID:SECRET lets into (that of --data)")
	c.Flags().StringVar(&f.listen, "listen", "127.0.0.1", "`address` of this machine to listen on")
	a.withPort(c, &f.port, 7440, 1, "`port` for owners; games are on the next one; 0 takes free ones")
	c.Flags().StringVar(&f.controlURL, "url", "", "`address` at which owners reach it, behind a proxy")
	c.Flags().StringVar(&f.gamesURL, "games-url", "", "`address` at which games are reached, behind a proxy; another host name than --url")
	c.Flags().StringVar(&f.certificate, "certificate", "", "`file` with a certificate chain (PEM), for TLS without a proxy")
	c.Flags().StringVar(&f.privateKey, "certificate-key", "", "`file` with the certificate's key")
	c.Flags().StringSliceVar(&f.proxies, "proxy", nil,
		"`network` of a proxy before it, such as 10.0.0.5 or 10.0.0.0/8, whose word on visitors' addresses is believed")
	c.Flags().StringSliceVar(&f.webhooks, "webhook", nil, "beginning of an `address` that rounds may tell of errors and of their last tester")
	c.Flags().Var(&f.drain, "drain", "how much `time` it goes on at its end while /healthz says so, for a proxy to send nobody here any more")
	c.Flags().StringVar(&f.quota, "quota", "", "the most `bytes` that one owner may keep, such as \"5 GB\"")
	c.Flags().Var(&f.keep, "keep", "the longest `time` after a round for which what came back is kept; then it is deleted")
	a.withDryRun(c, "say what would be started, and start nothing")
	c.AddCommand(a.hostToken(&f), a.hostBuilds(&f))
	return c
}

func (a *console) runHost(ctx context.Context, f hostFlags) error {
	o, err := f.options()
	if err != nil {
		return err
	}
	if a.dryRun {
		a.answer(map[string]string{"control": o.Control, "games": o.Games, "data": f.place()})
		a.screen.Line("a host would listen on %s for owners and on %s for games, with its data %s", o.Control, o.Games, f.place())
		return nil
	}
	serveOften()
	o.Log = slog.New(slog.NewJSONHandler(a.err, nil))
	h, err := playhost.Start(o)
	if err != nil {
		return err
	}
	s := a.screen
	if words := h.Crossing(); words != "" {
		s.Warn("%s", words)
	}
	tokens, err := h.Tokens(ctx)
	if err != nil {
		return errors.Join(err, h.Stop(0))
	}
	a.tell(map[string]string{"event": "listening", "control": h.ControlURL(), "games": h.GamesURL()})
	s.Line("%s  %s", s.In(term.Strong, "the host is at "+h.ControlURL()), s.In(term.Quiet, "games at "+h.GamesURL()))
	s.Line("  in havvel.toml:  [to.shed]")
	s.Line("                   rulebook = \"shed\"")
	s.Line("                   address  = %q", h.ControlURL())
	if len(tokens) == 0 {
		s.Next("in another terminal: havvel host token make NAME %s  (lets somebody send to it).  Ctrl-C ends the host", f.again())
	} else {
		s.Next("in the folder of your game: havvel send --to shed.  Ctrl-C ends the host")
	}
	<-ctx.Done()
	s.Line("")
	if err := h.Stop(10 * time.Second); err != nil {
		return err
	}
	a.tell(map[string]string{"event": "ended"})
	s.Line("ended; what was sent is %s", f.place())
	return nil
}

// place says where the data are, without the credentials.
func (f *hostFlags) place() string {
	if u, err := url.Parse(f.data); err == nil && u.Host != "" {
		return "on the server " + u.Host
	}
	return "in " + f.data
}

// again is how another command names the same data.
func (f *hostFlags) again() string {
	words := "--data " + f.data
	if u, err := url.Parse(f.data); err == nil && u.Host != "" {
		words = "--data " + u.Scheme + "://… (as here)"
	}
	if f.files != "" {
		words += " --files " + f.files
	}
	return words
}

func (f *hostFlags) options() (playhost.Options, error) {
	o := playhost.Options{
		Data:        f.data,
		Files:       f.files,
		FilesKey:    os.Getenv(filesVariable),
		Keep:        time.Duration(f.keep),
		ControlURL:  f.controlURL,
		GamesURL:    f.gamesURL,
		Certificate: f.certificate,
		Key:         f.privateKey,
	}
	o.Webhooks = f.webhooks
	o.Drain = time.Duration(f.drain)
	for _, p := range f.proxies {
		network, err := netip.ParsePrefix(p)
		if at, plain := netip.ParseAddr(p); err != nil && plain == nil {
			network, err = at.Prefix(at.BitLen())
		}
		if err != nil {
			return o, wrong("havvel host", "--proxy is %q; it is an address or a network, such as 10.0.0.5 or 10.0.0.0/8", p)
		}
		o.Proxies = append(o.Proxies, network)
	}
	games := 0
	if f.port > 0 {
		games = f.port + 1
	}
	o.Control, o.Games = net.JoinHostPort(f.listen, strconv.Itoa(f.port)), net.JoinHostPort(f.listen, strconv.Itoa(games))
	var quota settings.Size
	switch {
	case (f.certificate == "") != (f.privateKey == ""):
		return o, wrong("havvel host", "--certificate and --certificate-key go together")
	case f.controlURL != "" && f.controlURL == f.gamesURL:
		return o, wrong(
			"havvel host",
			"--url and --games-url are the same; games must be on an origin of their own, so that they reach nothing of the host",
		)
	case f.quota != "":
		if err := quota.UnmarshalText([]byte(f.quota)); err != nil {
			return o, wrong("havvel host", "--quota: %w", err)
		}
	}
	o.Quota = int64(quota)
	return o, nil
}

func (a *console) hostToken(f *hostFlags) *cobra.Command {
	return a.group(command{
		use: "token", short: "Manage the tokens that owners send with",
		long:    "Token makes, lists and revokes the tokens of owners. The host stores only a hash of each token.",
		example: "  havvel host token make moth --data shed\n  havvel host token revoke moth --data shed",
	}, a.tokenMake(f), a.tokenList(f), a.tokenRevoke(f))
}

// opened does something with the host's data, which another process may serve meanwhile; they must be there.
func opened(f *hostFlags, do func(*playhost.Host) error) error {
	if f.isNew() {
		return wrong("havvel host", "there are no data of a host in %s; --data names the folder that havvel host runs with", f.data)
	}
	return made(f, do)
}

// isNew reports whether the data are a folder that is not there yet.
func (f *hostFlags) isNew() bool { return !strings.Contains(f.data, "://") && !app.Exists(f.data) }

// made is like opened, for data that may be made by it.
func made(f *hostFlags, do func(*playhost.Host) error) error {
	h, err := playhost.Open(playhost.Options{Data: f.data, Files: f.files, FilesKey: os.Getenv(filesVariable)})
	if err != nil {
		return err
	}
	return errors.Join(do(h), h.Close())
}

func (a *console) tokenMake(f *hostFlags) *cobra.Command {
	return a.new(command{
		use: "make NAME", short: "Make a token, and print it this once", args: cobra.ExactArgs(1),
		long:    "Make makes a token under a name, such as its user's, and prints it. It is shown only this once.",
		example: "  havvel host token make moth\n  havvel host token make build-server --data /srv/shed",
		run: func(ctx context.Context, args []string) error {
			if f.isNew() {
				a.screen.Warn("%s is new, and no host runs with it: the token lets in only where havvel host has --data %s", f.data, f.data)
			}
			return made(f, func(h *playhost.Host) error {
				token, err := h.MakeToken(ctx, args[0])
				if err != nil {
					return wrong("havvel host token make", "%w", err)
				}
				a.answer(map[string]string{"name": args[0], "token": token})
				a.screen.Line("%s", token)
				a.screen.Next("where the game is: havvel keys set shed, and paste the token; it is not shown again")
				return nil
			})
		},
	})
}

func (a *console) tokenList(f *hostFlags) *cobra.Command {
	c := a.new(command{
		use: "list", short: "List tokens", args: cobra.NoArgs,
		long:    "List names all tokens. The tokens themselves are not shown: the host stores only hashes.",
		example: "  havvel host token list\n  havvel host token list --json",
		run: func(ctx context.Context, _ []string) error {
			return opened(f, func(h *playhost.Host) error { return a.listTokens(ctx, h, f) })
		},
	})
	return c
}

type tokenRow struct {
	Name    string `json:"name"`
	Made    string `json:"made"`
	Revoked bool   `json:"revoked"`
}

func (a *console) listTokens(ctx context.Context, h *playhost.Host, f *hostFlags) error {
	list, err := h.Tokens(ctx)
	if err != nil {
		return err
	}
	doc, rows := []tokenRow{}, [][]string{}
	for _, t := range list {
		state := "lets in"
		if t.Revoked {
			state = a.screen.In(term.Quiet, "revoked")
		}
		doc = append(doc, tokenRow{t.Name, t.Made.Format(time.RFC3339), t.Revoked})
		rows = append(rows, []string{t.Name, t.Made.Local().Format("2 January 2006 15:04"), state})
	}
	a.answer(map[string]any{"tokens": doc})
	if len(rows) == 0 {
		a.screen.Line("there is no token yet, so nobody can send to the host")
		a.screen.Next("havvel host token make NAME %s", f.again())
		return nil
	}
	a.screen.Table([]string{"name", "made", "state"}, rows)
	return nil
}

func (a *console) tokenRevoke(f *hostFlags) *cobra.Command {
	return a.new(command{
		use: "revoke NAME", short: "Stop accepting a token", args: cobra.ExactArgs(1),
		long:    "Revoke stops the host from accepting the token of that name, at once. What was sent with it stays.",
		example: "  havvel host token revoke moth\n  havvel host token revoke build-server --data /srv/shed",
		run: func(ctx context.Context, args []string) error {
			return opened(f, func(h *playhost.Host) error {
				err := h.RevokeToken(ctx, args[0])
				if errors.Is(err, playhost.ErrNoToken) {
					return wrong(
						"havvel host token revoke",
						"there is no token %q that lets anybody in; havvel host token list shows which there are",
						args[0],
					)
				}
				if err == nil {
					a.answer(map[string]string{"name": args[0]})
					a.screen.Line("%s is no longer accepted; what was sent with the token stays", args[0])
				}
				return err
			})
		},
	})
}
