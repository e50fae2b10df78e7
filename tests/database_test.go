//go:build unix

package tests

import (
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// database runs a PostgreSQL server, as a user that is not root. It writes down how it carries out each query, and reads a whole
// table only where there is no other way.
func database(t testing.TB) *machine {
	t.Helper()
	find := func(name string) string {
		if found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/" + name); len(found) > 0 { // where Debian has it, and not in PATH
			return found[len(found)-1]
		}
		return partner(t, name)
	}
	initdb, postgres := find("initdb"), find("postgres")
	root(t)
	folder := guestFolder(t)
	u, err := user.Lookup(guest)
	if err != nil {
		t.Fatal(err)
	}
	as := []string{"--reuid", u.Uid, "--regid", u.Gid, "--clear-groups", "--"}
	word := put(t, filepath.Join(folder, "word"), guestPassword)
	if err := os.Chmod(word, 0o644); err != nil {
		t.Fatal(err)
	}
	c := exec.Command(
		"setpriv",
		append(
			as,
			initdb,
			"-D",
			filepath.Join(folder, "db"),
			"-U",
			"moth",
			"--pwfile",
			word,
			"-A",
			"scram-sha-256",
			"-E",
			"UTF8",
			"--locale",
			"C",
		)...)
	c.Dir = folder
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	h := &machine{port: freePort(t)}
	h.address = fmt.Sprintf("postgres://moth@127.0.0.1:%s/postgres?sslmode=disable", h.port)
	h.env = []string{"PGPASSWORD=" + guestPassword}
	h.serving(
		t,
		nil,
		"setpriv",
		append(
			as,
			postgres,
			"-D",
			filepath.Join(folder, "db"),
			"-p",
			h.port,
			"-c",
			"listen_addresses=127.0.0.1",
			"-c",
			"unix_socket_directories=",
			"-c", "logging_collector=on", "-c", "log_directory="+folder, "-c", "log_filename=queries",
			"-c", "shared_preload_libraries=auto_explain", "-c", "auto_explain.log_min_duration=0", "-c", "enable_seqscan=off",
		)...)
	h.root = folder
	eventually(t, "the database takes no queries", func() (any, bool) { // it answers before it takes them
		c := exec.Command("psql", h.address, "-c", "SELECT 1")
		c.Env = append(os.Environ(), h.env...)
		out, err := c.CombinedOutput()
		return string(out), err == nil
	})
	return h
}

var (
	wholeTable = regexp.MustCompile(`Seq Scan on (\w+)`)
	asked      = regexp.MustCompile(`(?s)Query Text: (.*?)\n\t[^\n]*cost=`)
)

func queryLog(t *testing.T, database *machine) string {
	t.Helper()
	log, err := os.ReadFile(filepath.Join(database.root, "queries"))
	if err != nil {
		t.Fatal(err)
	}
	return string(log)
}

// scans are the queries for which a database read the whole of a table, though it was told not to; by table.
func scans(t *testing.T, log string) map[string][]string {
	t.Helper()
	list, plans := map[string][]string{}, 0
	for entry := range strings.SplitSeq(log, "LOG:  duration") {
		query := asked.FindStringSubmatch(entry)
		if query == nil {
			continue
		}
		plans++
		for _, m := range wholeTable.FindAllStringSubmatch(entry, -1) {
			if !slices.Contains(list[m[1]], query[1]) {
				list[m[1]] = append(list[m[1]], query[1])
			}
		}
	}
	if plans < 100 {
		t.Errorf("the database wrote down %d plans", plans)
	}
	return list
}
