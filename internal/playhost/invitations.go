package playhost

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/http"

	"havvel/internal/round"
)

var errNotInvited = &refusal{http.StatusForbidden, "this round is for people who were invited; open it by your own link"}

// invitedAs is the name of an invitation to a round.
func invitedAs(ctx context.Context, q queries, x *playRound, token string) (name string, err error) {
	err = q.row(ctx, "SELECT name FROM invitations WHERE token = ? AND round = ?", token, x.id).Scan(&name)
	if errors.Is(err, sql.ErrNoRows) {
		err = errNotInvited
	}
	return name, err
}

// invite makes an invitation for each name.
func (h *Host) invite(ctx context.Context, q queries, of, link string, names []string) (list []round.Invitation, err error) {
	for i, name := range names {
		token := newID()
		if _, err := q.exec(ctx, "INSERT INTO invitations (token, round, place, name) VALUES (?, ?, ?, ?)", token, of, i, name); err != nil {
			return nil, err
		}
		list = append(list, round.Invitation{Name: name, Link: invitation(link, token)})
	}
	return list, nil
}

func invitation(link, token string) string { return link + "?for=" + token }

// What a list of invitations may hold.
const (
	mostInvited = 2000
	mostName    = 200 // characters
)

func invitable(names []string) error {
	if len(names) > mostInvited {
		return &refusal{http.StatusUnprocessableEntity, fmt.Sprintf("a round has up to %d invitations", mostInvited)}
	}
	for _, name := range names {
		if name == "" || cut(name, mostName) != name {
			words := fmt.Sprintf("an invitation is for somebody whose name has up to %d characters", mostName)
			return &refusal{http.StatusUnprocessableEntity, words}
		}
	}
	return nil
}

// listInvitations says who was invited, and what they did.
func (h *Host) listInvitations(w http.ResponseWriter, r *http.Request) {
	x := h.ownRound(w, r)
	if x == nil {
		return
	}
	rows, err := h.data.query(r.Context(), `SELECT invitations.token, name, opened, sessions.id IS NOT NULL, COALESCE(answered, 0)
		FROM invitations LEFT JOIN sessions ON sessions.round = invitations.round AND sessions.tester = invitations.token
		WHERE invitations.round = ? ORDER BY place`, x.id)
	if err != nil {
		h.fail(w, err)
		return
	}
	defer rows.Close()
	list := []round.Invitation{}
	for rows.Next() {
		var one round.Invitation
		var token string
		var answered int64
		if err := rows.Scan(&token, &one.Name, &one.Opened, &one.Played, &answered); err != nil {
			h.fail(w, err)
			return
		}
		one.Link, one.Answered = invitation(h.options.ControlURL+"/r/"+x.secret, token), answered > 0
		list = append(list, one)
	}
	if err := rows.Err(); err != nil {
		h.fail(w, err)
		return
	}
	answer(w, http.StatusOK, map[string]any{"invitations": list})
}
