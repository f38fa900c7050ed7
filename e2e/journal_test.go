package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"plumlatch/core/journal"
	"plumlatch/core/wire"
)

// machine is an engineer's machine, with what it remembers of journals.
func (d *demo) machine(t *testing.T, state string, args ...string) result {
	t.Helper()
	cmd := exec.Command(filepath.Join(bin, "plumlatch"), args...)
	cmd.Env = append(os.Environ(), "PLUMLATCH_URL="+d.url, "PLUMLATCH_TOKEN="+d.token, "PLUMLATCH_STATE="+state)
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	_ = cmd.Run()
	return result{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
}

// chainLock is what whoever chains takes first (service/store/chain.go).
const chainLock = 7461658

// chained waits until everything is in the chain.
func chained(t *testing.T, db *pgx.Conn) {
	t.Helper()
	waitFor(t, "the chain", func() bool {
		var n int
		return db.QueryRow(context.Background(), "SELECT count(*) FROM journal_waiting").Scan(&n) == nil && n == 0
	})
}

// TestJournalTampering changes the journal in SQL, in each way that there is,
// as whoever owns the database can; each is found and named, and put right again.
func TestJournalTampering(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 72)
	d := &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token}
	ctx := context.Background()
	db := s.connect(t)
	do := func(sql string, args ...any) {
		t.Helper()
		_, err := db.Exec(ctx, sql, args...)
		mustDo(t, err)
	}
	for n := range 6 {
		d.must(t, "holder", "add", fmt.Sprintf("journal-crew-%d", n), "-sort", "team")
		chained(t, db) // heads of their own
	}
	state := filepath.Join(s.dir, "state")
	if r := d.machine(t, state, "journal", "verify"); r.code != 0 || !strings.Contains(r.out, "The journal holds") ||
		!strings.Contains(r.out, "seen here for the first time") {
		t.Fatalf("untouched: %+v", r)
	}
	if r := d.machine(t, state, "journal", "verify"); r.code != 0 ||
		!strings.Contains(r.out, "which this machine saw") {
		t.Fatalf("again: %+v", r)
	}
	chained(t, db)

	// The export holds by itself, and is what the service has.
	file := filepath.Join(s.dir, "export.jsonl")
	if r := d.machine(t, state, "journal", "export", "-out", file); r.code != 0 {
		t.Fatalf("export: %+v", r)
	}
	if r := d.machine(t, state, "journal", "export", "-out", file); r.code != 1 ||
		!strings.Contains(r.err, "not written over") {
		t.Errorf("export over a file: %+v", r)
	}
	if r := d.machine(t, state, "journal", "verify", "-file", file); r.code != 0 {
		t.Errorf("the export: %+v", r)
	}

	do("ALTER TABLE journal DISABLE TRIGGER journal_append_only") // an owner can
	var id, n int64
	mustDo(t, db.QueryRow(ctx, "SELECT id FROM journal WHERE target = 'holder journal-crew-2'").Scan(&id))
	mustDo(t, db.QueryRow(ctx, "SELECT n FROM journal_chain WHERE journal_id = $1", id).Scan(&n))
	var stored, sum []byte
	mustDo(t, db.QueryRow(ctx, "SELECT bytes FROM journal WHERE id = $1", id).Scan(&stored))
	mustDo(t, db.QueryRow(ctx, "SELECT sha256 FROM journal_chain WHERE n = $1", n).Scan(&sum))
	for _, c := range []struct {
		name     string
		do, undo func()
		want     string
	}{
		{"a row changed", func() { do("UPDATE journal SET bytes = $2 WHERE id = $1", id, []byte(`{"at":"x"}`)) },
			func() { do("UPDATE journal SET bytes = $2 WHERE id = $1", id, stored) },
			fmt.Sprintf("entry %d (link %d) was changed", id, n)},
		{"a row's bytes alone", func() {
			do("UPDATE journal SET bytes = $2 WHERE id = $1", id,
				append([]byte(" "), stored...))
		},
			func() { do("UPDATE journal SET bytes = $2 WHERE id = $1", id, stored) },
			fmt.Sprintf("entry %d (link %d) was changed", id, n)},
		{"what lists show changed", func() { do("UPDATE journal SET operator = 'nobody' WHERE id = $1", id) },
			func() { do("UPDATE journal SET operator = 'first-admin' WHERE id = $1", id) },
			fmt.Sprintf("entry %d (link %d) was changed: what lists show", id, n)},
		{"a row removed", func() {
			do("CREATE TABLE aside AS SELECT * FROM journal WHERE id = $1", id)
			do("DELETE FROM journal WHERE id = $1", id)
		}, func() {
			do("ALTER TABLE journal DISABLE TRIGGER journal_wait")
			do("INSERT INTO journal OVERRIDING SYSTEM VALUE SELECT * FROM aside")
			do("ALTER TABLE journal ENABLE TRIGGER journal_wait")
		}, fmt.Sprintf("entry %d (link %d) was removed", id, n)},
		{"a row put in between", func() {
			do("ALTER TABLE journal DISABLE TRIGGER journal_wait")
			do(`INSERT INTO journal (id, at, operator, address, action, target, intent, outcome, bytes) OVERRIDING SYSTEM VALUE
				SELECT -5, at - interval '1 hour', operator, address, action, target, intent, outcome, bytes FROM journal WHERE id = $1`, id)
		}, func() {
			do("DELETE FROM journal WHERE id = -5")
			do("ALTER TABLE journal ENABLE TRIGGER journal_wait")
		}, "entry -5 was put in between"},
		{"changed and rehashed", func() { do("UPDATE journal_chain SET sha256 = sha256(sha256) WHERE n = $1", n) },
			func() { do("UPDATE journal_chain SET sha256 = $2 WHERE n = $1", n, sum) },
			fmt.Sprintf("the chain was rehashed: link %d", n)},
		{"the tail cut, heads and all", func() {
			for _, table := range []string{"journal_heads", "journal_chain"} {
				do("CREATE TABLE " + table + "_aside AS SELECT * FROM " + table + " WHERE n > " + fmt.Sprint(n))
				do("DELETE FROM " + table + " WHERE n > " + fmt.Sprint(n))
			}
			do("CREATE TABLE journal_aside AS SELECT * FROM journal WHERE id > $1", id)
			do("DELETE FROM journal WHERE id > $1", id)
		}, func() {
			do("ALTER TABLE journal DISABLE TRIGGER journal_wait")
			do("INSERT INTO journal OVERRIDING SYSTEM VALUE SELECT * FROM journal_aside")
			do("ALTER TABLE journal ENABLE TRIGGER journal_wait")
			for _, table := range []string{"journal_chain", "journal_heads"} {
				do("INSERT INTO " + table + " SELECT * FROM " + table + "_aside")
			}
		}, "the tail was cut"},
		{"a row put in, and left to be chained", func() {
			do(`INSERT INTO journal (at, operator, address, action, target, intent, outcome, bytes) SELECT at - interval '1 day', operator, address, action, target, intent, outcome, bytes FROM journal WHERE id = $1`, id)
			chained(t, db)
		}, nil, "was put in: it is dated"}, // the last: what was signed cannot be made undone
	} {
		chained(t, db)
		// Nobody chains what the service itself writes down meanwhile: the case puts links back
		// under the numbers that they had.
		if c.undo != nil {
			do("SELECT pg_advisory_lock($1)", chainLock)
		}
		c.do()
		r := d.machine(t, state, "journal", "verify", "-json")
		var check wire.JournalCheck
		if err := json.Unmarshal([]byte(r.out), &check); err != nil {
			t.Fatalf("%s: %v %+v", c.name, err, r)
		}
		if r.code != 3 || !strings.Contains(strings.Join(check.Breaks, "\n"), c.want) {
			t.Errorf("%s: status %d, nothing says %q: %q", c.name, r.code, c.want, check.Breaks)
		}
		// A machine that never saw it is told by the service's own memory, or by the chain itself.
		if r := d.machine(t, filepath.Join(s.dir, "other-"+fmt.Sprint(len(c.name))), "journal", "verify"); r.code != 3 {
			t.Errorf("%s: another machine: %+v", c.name, r)
		}
		has(t, c.name+": today", reasons(d.todayOf(t)), "journal-broken", true)
		if c.undo == nil {
			continue
		}
		c.undo()
		do("SELECT pg_advisory_unlock($1)", chainLock)
		if r := d.machine(t, state, "journal", "verify"); r.code != 0 {
			t.Fatalf("%s, put right: %+v", c.name, r)
		}
		has(t, c.name+", put right: today", reasons(d.todayOf(t)), "journal-broken", false)
	}
}

func reasons(all wire.Today) (out []string) {
	for _, m := range all.Items {
		out = append(out, m.Reason)
	}
	return out
}

// TestJournalRole: the service's own role can neither change nor remove what stands in the journal.
func TestJournalRole(t *testing.T) {
	url, err := os.ReadFile(shared.path("database-url"))
	mustDo(t, err)
	ctx := context.Background()
	db, err := pgx.Connect(ctx, strings.TrimSpace(string(url)))
	mustDo(t, err)
	defer db.Close(ctx)
	for _, sql := range []string{
		"UPDATE journal SET operator = 'nobody'", "DELETE FROM journal", "TRUNCATE journal",
		"ALTER TABLE journal DISABLE TRIGGER ALL", "DROP TRIGGER journal_append_only ON journal",
		"UPDATE journal_chain SET sha256 = ''", "DELETE FROM journal_chain", "UPDATE journal_heads SET n = 0",
		"DELETE FROM journal_heads", "DELETE FROM journal_checks", "UPDATE schema_migrations SET version = 1",
	} {
		if _, err := db.Exec(ctx, sql); err == nil || !strings.Contains(err.Error(), "permission denied") &&
			!strings.Contains(err.Error(), "must be owner") {
			t.Errorf("%s: %v", sql, err)
		}
	}
	var check wire.JournalCheck
	mustDo(t, json.Unmarshal([]byte(shared.api(t, "POST", "/api/v1/journal/verify", "").body), &check))
	if check.OwnerRole || len(check.Breaks) > 0 || check.Links == 0 {
		t.Errorf("%+v", check)
	}
	if r := shared.machine(t, t.TempDir(), "journal", "export", "-out", "-"); r.code != 0 ||
		!strings.HasPrefix(r.out, `{"entry":`) || strings.Contains(r.out, "\x1b") {
		t.Errorf("export: %d %.100s", r.code, r.out)
	} else {
		var l journal.Line
		mustDo(t, json.Unmarshal([]byte(strings.SplitN(r.out, "\n", 2)[0]), &l))
	}
}
