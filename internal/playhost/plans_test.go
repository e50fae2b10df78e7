package playhost

import (
	"fmt"
	"strings"
	"testing"
)

// TestPlans: nothing that is asked while testers play goes through a whole table.
func TestPlans(t *testing.T) {
	h, _ := host(t, nil)
	for _, query := range []string{
		"SELECT " + roundColumns + " FROM rounds WHERE secret = ?",
		"SELECT " + roundColumns + " FROM rounds WHERE play = ?",
		"SELECT " + buildColumns + " FROM builds WHERE secret = ? AND state = ?",
		"SELECT path, files.sha256, files.bytes, contents.name FROM files JOIN contents ON contents.sha256 = files.sha256 WHERE build = ?",
		"SELECT id, made, last, last_own FROM sessions WHERE round = ? AND tester = ?",
		"UPDATE sessions SET last = last WHERE id = ? AND round = ? RETURNING last",
		"UPDATE rounds SET testers = testers + 1 WHERE id = ?",
		"UPDATE invitations SET opened = opened + 1 WHERE token = ? AND round = ?",
		"SELECT lines FROM batches WHERE session = ? ORDER BY first",
		"SELECT id FROM sessions WHERE round = ? AND (made, id) > (?, ?) ORDER BY made, id LIMIT ?",
		"SELECT COALESCE(SUM(bytes), 0) FROM clips WHERE session = ?",
		"SELECT COALESCE(SUM(times), 0) FROM guesses WHERE round = ? AND since = ?",
		"SELECT name FROM tokens WHERE hash = ? AND revoked = 0",
		"SELECT 1 FROM files WHERE files.sha256 = ?",
		"SELECT id FROM sessions WHERE round IN (SELECT id FROM rounds WHERE forget < ?)",
	} {
		rows, err := h.data.query(t.Context(), "EXPLAIN QUERY PLAN "+query, make([]any, strings.Count(query, "?"))...)
		if err != nil {
			t.Fatal(query, err)
		}
		var plan []string
		for rows.Next() {
			var id, parent, unused int
			var detail string
			if err := rows.Scan(&id, &parent, &unused, &detail); err != nil {
				t.Fatal(err)
			}
			plan = append(plan, detail)
		}
		rows.Close()
		for _, step := range plan {
			if strings.HasPrefix(step, "SCAN") || strings.Contains(step, "TEMP B-TREE") {
				t.Errorf("%s\n%s", query, fmt.Sprint(plan))
			}
		}
	}
}
