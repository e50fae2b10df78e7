package portal

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/icholy/digest"
	"github.com/minio/minio-go/v7/pkg/signer"
	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"

	"havvel/internal/rulebook"
	"havvel/internal/rulebook/expression"
)

// A Vault keeps what a log-in by a person gave, so that nobody has to log in each time.
type Vault interface {
	Load() *oauth2.Token // nil where there is none
	Save(*oauth2.Token) error
}

// prepare has the client log in by itself where the standard wants that.
func (s *Session) prepare() error {
	l := s.Rules.Login
	if l == nil {
		return nil
	}
	transport := newTransport()
	switch l.By {
	case "digest":
		s.client.Transport = &digest.Transport{
			Username: s.text("key_id"), Password: s.text("key_secret"), Transport: transport, Jar: s.client.Jar, Probe: true,
		}
	case "certificate":
		pair, err := tls.LoadX509KeyPair(s.Key, s.Key)
		if err != nil {
			return fmt.Errorf("reading the client certificate for %s: %w", s.Rules.Name, err)
		}
		if transport.TLSClientConfig == nil {
			transport.TLSClientConfig = &tls.Config{}
		}
		transport.TLSClientConfig.Certificates = []tls.Certificate{pair}
		s.client.Transport = transport
	}
	return nil
}

// token gets an access token (RFC 6749 section 4.4; RFC 8628).
func (s *Session) token(ctx context.Context) error {
	l := s.Rules.Login
	values := s.env(nil)
	address, err := s.address(l.Token, values)
	if err != nil {
		return err
	}
	step := &rulebook.Step{Step: "log in"}
	client := *s.client
	client.Timeout = time.Minute
	ctx = context.WithValue(ctx, oauth2.HTTPClient, &client)
	more := map[string][]string{}
	for name, text := range l.Fields {
		v, err := text.Fill(values, s.taint)
		if err != nil {
			return s.puzzled(step, err)
		}
		more[name] = []string{v}
	}
	var got *oauth2.Token
	if l.By == "device" {
		got, err = s.device(ctx, address.String())
	} else {
		config := clientcredentials.Config{
			ClientID: s.text("key_id"), ClientSecret: s.text("key_secret"), TokenURL: address.String(), Scopes: strings.Fields(l.Scope),
			EndpointParams: more,
		}
		got, err = config.Token(ctx)
	}
	if err != nil {
		return s.unanswered(ctx, step, address.String(), err)
	}
	s.Hide("token", got.AccessToken)
	s.hide(got.RefreshToken)
	return nil
}

// unanswered says why there is no token.
func (s *Session) unanswered(ctx context.Context, step *rulebook.Step, address string, err error) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	var said *oauth2.RetrieveError
	if errors.As(err, &said) {
		e := &Refused{Portal: s.Rules.Name, Step: step.Step, Status: said.Response.StatusCode, Key: said.ErrorCode != ""}
		for _, word := range []string{said.ErrorDescription, said.ErrorCode} {
			if word != "" {
				e.Reasons = []string{s.masked(word)}
				break
			}
		}
		return e
	}
	var f *Puzzled
	if errors.As(err, &f) {
		return err
	}
	host, _, _ := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(address, "https://"), "http://"), "/")
	return &Unreachable{Portal: s.Rules.Name, Step: step.Step, Host: host, Cause: err}
}

// device has the developer confirm on another device, unless an earlier log-in can be renewed. A token that renews is used once: the
// portal gives another one with each (RFC 6749 section 6).
func (s *Session) device(ctx context.Context, token string) (*oauth2.Token, error) {
	l := s.Rules.Login
	at, err := s.address(l.Device, s.env(nil))
	if err != nil {
		return nil, err
	}
	config := oauth2.Config{
		ClientID: s.text("key_id"), ClientSecret: s.text("key_secret"), Scopes: strings.Fields(l.Scope),
		Endpoint: oauth2.Endpoint{TokenURL: token, DeviceAuthURL: at.String(), AuthStyle: oauth2.AuthStyleInParams},
	}
	if s.Vault != nil {
		if before := s.Vault.Load(); before != nil {
			if before.Valid() && s.entrances() == 1 {
				return before, nil
			}
			before.Expiry = time.Unix(1, 0) // it was refused, or has ended
			if got, err := config.TokenSource(ctx, before).Token(); err == nil {
				return got, s.Vault.Save(got)
			}
		}
	}
	if s.Prompt == nil {
		return nil, s.odd(&rulebook.Step{Step: "log in"}, "someone has to confirm it, and there is no terminal here")
	}
	begun, err := config.DeviceAuth(ctx)
	if err != nil {
		return nil, err
	}
	address := begun.VerificationURIComplete
	if address == "" {
		address = begun.VerificationURI
	}
	s.Prompt(address, begun.UserCode)
	got, err := config.DeviceAccessToken(ctx, begun)
	if err != nil || s.Vault == nil {
		return got, err
	}
	return got, s.Vault.Save(got)
}

// authorize signs a request, where the standard wants each to be signed.
func (s *Session) authorize(r *http.Request) error {
	l := s.Rules.Login
	if l == nil || l.By != "aws" && l.By != "signature" || s.guardHost(r) != nil {
		return nil
	}
	sum, err := bodySum(r)
	if err != nil {
		return err
	}
	if l.By == "aws" {
		r.Header.Set("X-Amz-Content-Sha256", fmt.Sprintf("%x", sum))
		signed := signer.SignV4WithServiceType(*r, s.text("key_id"), s.text("key_secret"), "", l.Region, l.Service)
		r.Header = signed.Header
		return nil
	}
	return s.sign(r, sum, time.Now())
}

func (s *Session) guardHost(r *http.Request) error {
	return s.guard(&rulebook.Step{Headers: map[string]expression.Text{"a": expression.NewText("{key}")}}, r.URL)
}

// bodySum is the SHA-256 of a body, which is read for it.
func bodySum(r *http.Request) ([]byte, error) {
	h := sha256.New()
	if r.GetBody != nil && r.ContentLength != 0 {
		body, err := r.GetBody()
		if err != nil {
			return nil, err
		}
		defer body.Close()
		if _, err := io.Copy(h, body); err != nil {
			return nil, err
		}
	}
	return h.Sum(nil), nil
}

// sign signs a request by RFC 9421, with hmac-sha256; its body by Content-Digest (RFC 9530).
func (s *Session) sign(r *http.Request, sum []byte, at time.Time) error {
	covers := s.Rules.Login.Covers
	if len(covers) == 0 {
		covers = []string{"@method", "@target-uri"}
		if r.ContentLength != 0 {
			covers = append(covers, "content-digest")
		}
	}
	if slices.Contains(covers, "content-digest") {
		r.Header.Set("Content-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(sum)+":")
	}
	var base strings.Builder
	var names []string
	for _, c := range covers {
		v, err := component(r, c)
		if err != nil {
			return err
		}
		fmt.Fprintf(&base, "%q: %s\n", c, v)
		names = append(names, fmt.Sprintf("%q", c))
	}
	parameters := fmt.Sprintf(`(%s);created=%d;keyid=%q;alg="hmac-sha256"`, strings.Join(names, " "), at.Unix(), s.text("key_id"))
	fmt.Fprintf(&base, "%q: %s", "@signature-params", parameters)
	mac := hmac.New(sha256.New, []byte(s.text("key_secret")))
	mac.Write([]byte(base.String()))
	r.Header.Set("Signature-Input", "sig="+parameters)
	r.Header.Set("Signature", "sig=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":")
	return nil
}

// component is a part of a request that a signature covers (RFC 9421 section 2).
func component(r *http.Request, name string) (string, error) {
	switch name {
	case "@method":
		return r.Method, nil
	case "@target-uri":
		return r.URL.String(), nil
	case "@authority":
		return strings.ToLower(r.URL.Host), nil
	case "@scheme":
		return r.URL.Scheme, nil
	case "@path":
		return r.URL.EscapedPath(), nil
	case "@query":
		return "?" + r.URL.RawQuery, nil
	}
	if strings.HasPrefix(name, "@") {
		return "", fmt.Errorf("a signature can't cover %q", name)
	}
	list := r.Header.Values(name)
	if len(list) == 0 && name == "content-length" {
		return fmt.Sprint(r.ContentLength), nil
	}
	if len(list) == 0 {
		return "", fmt.Errorf("a signature is to cover the header %q, which the request doesn't have", name)
	}
	for i := range list {
		list[i] = strings.TrimSpace(list[i])
	}
	return strings.Join(list, ", "), nil
}
