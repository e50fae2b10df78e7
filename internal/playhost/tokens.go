package playhost

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"strings"
	"time"
)

// A Token lets an owner in. What it is made of is known only when it is made.
type Token struct {
	Name    string
	Made    time.Time
	Revoked bool
}

var tokenName = regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`)

// MakeToken makes a token under a name that is not taken, and returns what the owner must keep.
func (h *Host) MakeToken(ctx context.Context, name string) (string, error) {
	if !tokenName.MatchString(name) || len(name) > 60 {
		return "", fmt.Errorf("%q can't name a token; use small letters, digits and hyphens", name)
	}
	token := "shed-" + strings.ToLower(rand.Text())
	err := h.data.within(ctx, func(q queries) error {
		var revoked bool
		err := q.row(ctx, "SELECT revoked FROM tokens WHERE name = ?", name).Scan(&revoked)
		if err == nil && !revoked {
			return fmt.Errorf("there is a token %q already; revoke it first, or take another name", name)
		}
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		_, err = q.exec(
			ctx,
			"INSERT INTO tokens (name, hash, made) VALUES (?, ?, ?) ON CONFLICT (name) DO UPDATE SET hash = excluded.hash, made = "+
				"excluded.made, revoked = 0",
			name,
			hashOf(token),
			seconds(h.options.Now()),
		)
		return err
	})
	return token, err
}

func hashOf(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

// Tokens lists all tokens, by name.
func (h *Host) Tokens(ctx context.Context) ([]Token, error) {
	rows, err := h.data.query(ctx, "SELECT name, made, revoked FROM tokens ORDER BY name")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Token
	for rows.Next() {
		var t Token
		var made int64
		if err := rows.Scan(&t.Name, &made, &t.Revoked); err != nil {
			return nil, err
		}
		t.Made = time.Unix(made, 0).UTC()
		list = append(list, t)
	}
	return list, rows.Err()
}

// ErrNoToken says that there is no token of a name that lets somebody in.
var ErrNoToken = errors.New("there is no such token")

// RevokeToken stops accepting a token, at once. What its owner sent stays.
func (h *Host) RevokeToken(ctx context.Context, name string) error {
	r, err := h.data.exec(ctx, "UPDATE tokens SET revoked = 1 WHERE name = ? AND revoked = 0", name)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n == 0 {
		return errors.Join(ErrNoToken, err)
	}
	return nil
}

type ownerKey struct{}

// owned lets in owners with a token, and tells the next handler which owner it is.
func (h *Host) owned(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		var name string
		err := sql.ErrNoRows
		if ok { // a hash is looked for, so that the time says nothing of the token
			err = h.data.row(r.Context(), "SELECT name FROM tokens WHERE hash = ? AND revoked = 0", hashOf(token)).Scan(&name)
		}
		switch {
		case errors.Is(err, sql.ErrNoRows):
			h.refuse(
				w,
				http.StatusUnauthorized,
				"this token is not one of this host's, or was revoked; havvel host token make NAME, on the host's machine, makes one",
			)
		case err != nil:
			h.fail(w, err)
		default:
			if r.Method != http.MethodGet && r.Method != http.MethodHead && r.Method != http.MethodPatch { // what owners change
				h.options.Log.Info("owner", "name", name, "does", r.Pattern, "id", r.PathValue("id"))
			}
			next(w, r.WithContext(context.WithValue(r.Context(), ownerKey{}, name)))
		}
	}
}

func ownerOf(r *http.Request) string {
	name, _ := r.Context().Value(ownerKey{}).(string)
	return name
}
