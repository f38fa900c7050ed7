package e2e

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// TestMigratesOldData: a database as it was before permits (migration 11), with
// rows in every table that 0012 changes, is taken over by this service: what the
// rows say stays, and what was a name becomes the ID of the same key.
func TestMigratesOldData(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	s := &slot{n: 129, dir: t.TempDir(), cloud: shared}
	var err error
	s.front, err = newFront()
	mustDo(t, err)
	t.Cleanup(func() { s.front.listener.Close() })
	name := fmt.Sprintf("old_%d", rand.Uint32())
	_, err = shared.database(t).Exec(ctx, "CREATE DATABASE "+name)
	mustDo(t, err)
	base, err := os.ReadFile(shared.path("owner-url"))
	mustDo(t, err)
	s.database = strings.Replace(strings.TrimSpace(string(base)), "/postgres?", "/"+name+"?", 1)
	db := s.connect(t)
	exec := func(sql string, args ...any) {
		t.Helper()
		if _, err := db.Exec(ctx, sql, args...); err != nil {
			t.Fatalf("%v\n%s", err, sql)
		}
	}
	exec("CREATE TABLE schema_migrations (version integer PRIMARY KEY, sha256 text NOT NULL, applied_at " +
		"timestamptz NOT NULL DEFAULT now())")
	files, err := filepath.Glob("../service/store/migrations/*.sql")
	mustDo(t, err)
	slices.Sort(files)
	for _, f := range files[:11] {
		text, err := os.ReadFile(f)
		mustDo(t, err)
		exec(string(text))
		version, err := strconv.Atoi(filepath.Base(f)[:4])
		mustDo(t, err)
		sum := sha256.Sum256(text)
		exec("INSERT INTO schema_migrations (version, sha256) VALUES ($1, $2)", version, hex.EncodeToString(sum[:]))
	}
	for _, sql := range []string{
		`INSERT INTO operators (name, name_fold, role, password_hash) VALUES ('Night-Lead', 'night-lead', 'admin', 'x')`,
		`INSERT INTO tokens (operator_id, name, role, sha256, expires_at) VALUES (1, 'pier', 'admin', '\x01', now() + interval '1 day')`,
		`INSERT INTO signin_failures (name_fold, address) VALUES ('night-lead', '192.0.2.7'), ('night-lead', '192.0.2.7')`,
		`INSERT INTO keys (name, name_fold, blob, kind, fingerprint, comment, origin, created_by) VALUES
			('Day-Crew', 'day-crew', '\x01', 'ssh-ed25519', 'SHA256:a', '', 'made here', 'Night-Lead'),
			('night-crew', 'night-crew', '\x02', 'ssh-ed25519', 'SHA256:b', '', 'imported', 'Night-Lead')`,
		`INSERT INTO challenges (nonce, operator_id, key_id, text, expires_at) VALUES ('n', 1, 1, 't', now() + interval '5 minutes')`,
		`INSERT INTO instances (name, name_fold, alias, cloud, client_token, region, image, size, login_user, phase, user_data, created_by) VALUES
			('berth-board-1', 'berth-board-1', 'plumlatch-aaaaaaaaaa', 'standin', 't1', 'north-pier', 'i', 's', 'ferry', 'ready', '', 'Night-Lead')`,
		`INSERT INTO work (token, kind, title, operator, address, state, changing, holding, data, instance_id) VALUES
			('w1', 'access-add', 'an access', 'Night-Lead', '', 'done', true, false, '{"expiry": "20261224120000Z"}', 1),
			('w2', 'rotate-many', 'many', 'Night-Lead', '', 'done', false, false, '{}', NULL)`,
		`INSERT INTO access (key_id, instance_id, login_user) VALUES (1, 1, 'ferry'), (2, 1, 'ferry')`,
		`INSERT INTO access_terms (access_id, until_at, enforced, operator, work_id) SELECT id, '2026-12-24T12:00:00Z', key_id = 1, 'Night-Lead', 1 FROM access`,
		`INSERT INTO fleet_members (work_id, n, instance_id, old_key, new_key, wave) VALUES (2, 1, 1, 'Day-Crew', 'night-crew', 1), (2, 2, 1, 'day-crew', 'no-longer-here', 1)`,
		`INSERT INTO journal_checks (operator, links, breaks) VALUES ('Night-Lead', 3, '[{"n": 2}]')`,
	} {
		exec(sql)
	}

	if out, err := s.command("admin", "second-admin").CombinedOutput(); err != nil {
		t.Fatalf("the service does not take the database: %v\n%s", err, out)
	}
	for _, c := range []struct{ what, sql, want string }{
		{"members name keys by ID", `SELECT string_agg(concat_ws('/', n, old_key, old_key_id, new_key, new_key_id), ' ' ORDER BY n) FROM fleet_members`, "1/Day-Crew/1/night-crew/2 2/day-crew/1/no-longer-here"},
		{"the end that we wrote is kept for what the server ends, and no other",
			`SELECT string_agg(access_id || '=' || expiry, ' ' ORDER BY access_id) FROM access_terms`,
			"1=20261224120000Z 2="},
		{"tokens have no parent", `SELECT count(*)::text FROM tokens WHERE parent_id IS NULL AND name = 'pier'`, "1"},
		{"attempts to sign in count on", `SELECT count(*)::text FROM signin_attempts WHERE name_fold = 'night-lead'`,
			"2"},
		{"challenges name nothing besides",
			`SELECT count(*)::text FROM challenges WHERE work_id IS NULL AND instance_id IS NULL`, "1"},
		{"a check of before is nobody's look but its client's",
			`SELECT concat_ws('/', by_service, role, head_n, breaks) FROM journal_checks`, `f//0/[{"n": 2}]`},
		{"holders of before stay as they were", `SELECT count(*)::text FROM keys WHERE holder_id IS NULL`, "2"},
	} {
		var got string
		if err := db.QueryRow(ctx, c.sql).Scan(&got); err != nil || got != c.want {
			t.Errorf("%s: %q, %v; want %q", c.what, got, err, c.want)
		}
	}
}
