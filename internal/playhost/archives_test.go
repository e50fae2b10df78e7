package playhost

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"havvel/internal/pieces"
)

// TestJointsGuarded: parts of an archive are taken from the owner's own archives alone, and inside them; one whose source is gone is
// refused in words, and what is sent whole still arrives.
func TestJointsGuarded(t *testing.T) {
	h, token := host(t, nil)
	other, err := h.MakeToken(t.Context(), "lamp")
	if err != nil {
		t.Fatal(err)
	}
	secret := zipOf(t, "index.html", entry, "plans.txt", "the ending")
	if b := sent(t, h, other, secret); b.State != Ready {
		t.Fatalf("%+v", b)
	}
	own := zipOf(t, "index.html", entry, "art.txt", strings.Repeat("lane", 1000))
	if b := sent(t, h, token, own); b.State != Ready {
		t.Fatalf("%+v", b)
	}
	sum := func(data []byte) string {
		s := sha256.Sum256(data)
		return hex.EncodeToString(s[:])
	}
	begin := func(archive []byte, j pieces.Joint) (id string, status int, words string) {
		t.Helper()
		_, text := ask(t, "POST", h.ControlURL()+"/api/builds", token, strings.NewReader(fmt.Sprintf(
			`{"game": "lane", "title": "Lane", "version": "2", "sha256": "%s", "bytes": %d}`, sum(archive), len(archive))))
		var in struct {
			ID, Upload string
			Archives   []string
		}
		if json.Unmarshal([]byte(text), &in); in.ID == "" || len(in.Archives) == 0 || in.Archives[0] != sum(own) ||
			strings.Contains(text, sum(secret)) {
			t.Fatal(text)
		}
		metadata, _ := j.MarshalText()
		r, words := ask(t, "POST", h.ControlURL()+in.Upload, token, nil, "Upload-Length", fmt.Sprint(j.Travels()),
			"Upload-Metadata", "joint "+string(metadata))
		return in.ID, r.StatusCode, words
	}
	n := int64(len(own))
	for name, j := range map[string]pieces.Joint{
		"another owner's":    {Sources: []string{sum(secret)}, Parts: [][3]int64{{int64(len(secret)), 0, 0}, {n - int64(len(secret)), -1, 0}}},
		"beyond the end":     {Sources: []string{sum(own)}, Parts: [][3]int64{{n, 0, 1}}},
		"shorter":            {Sources: []string{sum(own)}, Parts: [][3]int64{{n - 1, 0, 0}}},
		"a path for a sum":   {Sources: []string{"../" + sum(own)}, Parts: [][3]int64{{n, 0, 0}}},
		"more than there is": {Sources: []string{sum(own)}, Parts: [][3]int64{{n, 0, 0}, {1 << 40, -1, 0}}},
	} {
		if _, status, words := begin(own, j); status != 422 {
			t.Errorf("%s: %d %s", name, status, words)
		}
	}
	half := n / 2
	j := pieces.Joint{Sources: []string{sum(own)}, Parts: [][3]int64{{half, 0, 0}, {n - half, -1, 0}}}
	id, status, words := begin(own, j)
	if status != 201 {
		t.Fatal(status, words)
	}
	if _, err := h.data.exec(t.Context(), "DELETE FROM archives"); err != nil {
		t.Fatal(err)
	}
	ask(t, "PATCH", h.ControlURL()+"/api/builds/"+id+"/bytes", token, bytes.NewReader(own[half:]), "Upload-Offset", "0")
	if b := state(t, h, token, id); b.State != Refused || !strings.Contains(fmt.Sprint(b.Problems), "is gone; send it again") {
		t.Errorf("%+v", b)
	}
	if b := sent(t, h, token, own); b.State != Ready {
		t.Errorf("%+v", b)
	}
}
