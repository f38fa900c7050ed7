package e2e

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"plumlatch/core/access"
	"plumlatch/core/authkeys"
	"plumlatch/core/wire"
	"plumlatch/service/store"
)

// manyLines are n lines of n keys of nobody.
func manyLines(n int) []byte {
	var out bytes.Buffer
	for i := range n {
		blob := binary.BigEndian.AppendUint32(nil, 11)
		blob = append(blob, "ssh-ed25519"...)
		blob = binary.BigEndian.AppendUint32(blob, 32)
		key := make([]byte, 32)
		_, _ = rand.Read(key)
		fmt.Fprintf(&out, "ssh-ed25519 %s nobody-%d\n", base64.StdEncoding.EncodeToString(append(blob, key...)), i)
	}
	return out.Bytes()
}

// TestSurveyOddFiles: whatever stands in a file's place ends with its own
// reason, and nothing is said to be gone that was not seen to be.
func TestSurveyOddFiles(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 73)
	d := &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token}
	d.launchBoard(t, "file-board", s.key)
	file := filepath.Join(d.disk(t, "file-board"), "home/debian/.ssh/authorized_keys")
	good, err := os.ReadFile(file)
	mustDo(t, err)
	second := file + "2" // the server reads both; the steward gets in by the first
	d.surveyOf(t, "file-board")
	write := func(data []byte) func() {
		return func() { mustDo(t, os.WriteFile(second, data, 0o600)) }
	}
	for _, c := range []struct {
		what    string
		make    func()
		notSeen string // "" if it is read as a whole
		keys    int    // unrecorded ones that are shown
		broken  int
	}{
		{"50 MB", write(bytes.Repeat([]byte("# a comment that goes on and on ......\n"), 50<<20/39)),
			"larger than any", 0, 0},
		{"100,000 lines", write(manyLines(100_000)), "98000 more unrecorded keys", 2000, 0},
		{"NUL bytes", write(bytes.Repeat([]byte{0}, 1<<20)), "", 0, 0},
		{"NUL in a line", write([]byte("ssh-ed25519\x00 AAAA x\n" + string(manyLines(1)))), "", 1, 1},
		{"a symbolic link", func() { mustDo(t, os.Symlink("authorized_keys", second)) }, "symbolic link", 0, 0},
		{"a folder", func() { mustDo(t, os.Mkdir(second, 0o700)) }, "no regular file", 0, 0},
		{"hostile words", write([]byte(strings.TrimSpace(string(manyLines(1))) +
			" \x1b]0;owned\x07\u202e\x1b[2J\r\nfrob=\"\x1b[31m\" ssh-ed25519 AAAA\n")), "", 1, 1},
	} {
		mustDo(t, os.RemoveAll(second))
		c.make()
		began := time.Now()
		r := d.client(t, "", "survey", "file-board", "-json")
		var s wire.Survey
		if err := json.Unmarshal([]byte(r.out), &s); err != nil || r.code != 0 {
			t.Errorf("%s: %v %.300s", c.what, err, r.err)
			continue
		}
		if took := time.Since(began); took > 25*time.Second {
			t.Errorf("%s took %v", c.what, took)
		}
		unrecorded := 0
		for _, k := range s.Keys {
			switch k.Result {
			case "unrecorded":
				unrecorded++
			case "missing", "expired":
				t.Errorf("%s: %s is said to be %s", c.what, k.Key, k.Result)
			}
		}
		if unrecorded != c.keys || len(s.Broken) != c.broken ||
			!strings.Contains(strings.Join(s.NotSeen, "\n"), c.notSeen) || c.notSeen != "" && len(s.NotSeen) != 3 {
			t.Errorf("%s: %d unrecorded, broken %q, not seen %q", c.what, unrecorded, s.Broken, s.NotSeen)
		}
		for _, view := range [][]string{{"survey", "file-board", "-last"}, {"survey", "file-board"},
			{"today", "-limit", "9000"}, {"access", "list", "-csv"}} {
			if r := d.client(t, "", view...); strings.ContainsAny(r.out+r.err, "\x1b\x07\u202e") || r.code != 0 {
				t.Errorf("%s: %v shows what steers a terminal, or fails: %d", c.what, view, r.code)
			}
		}
		if got := d.api(t, "GET", "/api/v1/instances/file-board/timeline", ""); got.status != 200 ||
			strings.ContainsAny(got.body, "\x1b\x07\u202e") {
			t.Errorf("%s: the time line: %d", c.what, got.status)
		}
		contains(t, c.what, d.must(t, "access", "list", "-instance", "file-board"), "accepted")
	}
	mustDo(t, os.RemoveAll(second))
	if after, err := os.ReadFile(file); err != nil || !bytes.Equal(after, good) {
		t.Errorf("the file was changed")
	}
}

// counting is a log that counts the statements that the database is sent.
type counting struct {
	slog.Handler
	n atomic.Int64
}

func (c *counting) Enabled(context.Context, slog.Level) bool { return true }

func (c *counting) Handle(_ context.Context, r slog.Record) error {
	if r.Message == "statement" {
		c.n.Add(1)
	}
	return nil
}

// TestKeepSurvey takes surveys in: with as many statements for three thousand
// keys as for one; and a turn that was given back is not taken anew by whoever
// holds it a moment too late.
func TestKeepSurvey(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 77)
	ctx := t.Context()
	count := &counting{Handler: slog.DiscardHandler}
	db, err := store.Open(ctx, s.database, "", 4, slog.New(count))
	mustDo(t, err)
	defer db.Close()
	i, err := db.AddInstance(ctx, store.Service, store.Once{},
		store.NewInstance{Instance: store.Instance{Name: "keep-board", Alias: "plumlatch-keep", Cloud: "none",
			Phase: store.Launching, LoginUser: "debian", Port: 22, State: "running"},
			Work: store.NewWork{Kind: "kept", Title: "t", Token: "kept", Changing: true,
				Steps: []store.WorkStep{{Name: "a", Title: "A"}}, Action: "x", Target: "instance keep-board"}})
	mustDo(t, err)
	keep := func(keys int) int64 {
		fence, err := db.TakeTurn(ctx, i.ID)
		mustDo(t, err)
		turn := store.Turn{InstanceID: i.ID, Fence: fence}
		kept := store.Kept{By: store.Service, Turn: turn, Found: map[int64]bool{}, Users: []string{"debian"},
			Journal: "x", Parts: []store.SurveyPart{{Sort: "inside", Vantage: "192.0.2.1", Report: wire.Survey{}}}}
		for _, l := range authkeys.Parse(manyLines(keys), time.UTC) {
			kept.Keys = append(kept.Keys,
				store.SeenKey{LoginUser: "debian",
					Found: access.Found{Blob: l.Blob, Places: []access.Place{{File: "f", Line: l.Number}}}})
		}
		before := count.n.Load()
		mustDo(t, db.KeepSurvey(ctx, i, kept))
		used := count.n.Load() - before
		if err := db.HoldTurn(ctx, turn); !errors.Is(err, store.ErrLost) {
			t.Errorf("a turn that was given back is held: %v", err)
		}
		return used
	}
	one, many := keep(1), keep(3000)
	if one == 0 || many > one {
		t.Errorf("%d statements for one key, %d for 3000", one, many)
	}
	conn, err := pgx.Connect(ctx, s.database)
	mustDo(t, err)
	defer conn.Close(ctx)
	var n int
	if mustDo(t, conn.QueryRow(ctx, "SELECT count(*) FROM sightings WHERE gone_at IS NULL").Scan(&n)); n != 3000 {
		t.Errorf("%d keys are kept", n)
	}
}

// freezes is a server before an instance's own, which stops in the middle.
func freezes(t *testing.T, to string, after int64) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	mustDo(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				behind, err := net.Dial("tcp", to)
				if err != nil {
					return
				}
				defer behind.Close()
				go func() { _, _ = io.Copy(behind, conn) }()
				_, _ = io.CopyN(conn, behind, after)
				time.Sleep(time.Minute)
			}()
		}
	}()
	return l.Addr().(*net.TCPAddr).Port
}

// TestSurveyOddServers surveys many at once, some of whose servers misbehave:
// each has its own reason, and the others' results are kept.
func TestSurveyOddServers(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 74)
	d := &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token}
	odds := map[string]string{ // to a part of the reason, from inside
		"odd-silent": "in time", "odd-flood": "does not speak SSH", "odd-drip": "in time", "odd-old": "too old",
		"odd-refused": "nothing listens", "odd-freeze": "halfway", "odd-hostkey": "another host key",
		"odd-unmarked": "",
	}
	names := []string{"fine-1", "fine-2"}
	for name := range odds {
		names = append(names, name)
	}
	for _, n := range names {
		d.must(t, "instance", "launch", n, "-image", "debian-12", "-size", "small", "-region", "south-pier", "-key",
			s.key, "-detach")
	}
	waitFor(t, "the launches", func() bool {
		return !strings.Contains(d.must(t, "work", "list", "-state", "open"),
			"launch")
	})
	db := s.connect(t)
	move := func(name string, port int) {
		_, err := db.Exec(context.Background(),
			"UPDATE instances SET address = '127.0.0.1', port = $2 WHERE name = $1", name, port)
		mustDo(t, err)
	}
	i := d.instance(t, "odd-freeze")
	move("odd-freeze", freezes(t, net.JoinHostPort(i.Address, fmt.Sprint(i.Port)), 3000))
	for _, how := range []string{"silent", "flood", "drip", "old"} {
		move("odd-"+how, odd(t, how))
	}
	move("odd-refused", 1)
	other := d.instance(t, "fine-1")
	_, err := db.Exec(context.Background(), "UPDATE instances SET address = $1 WHERE name = 'odd-hostkey'",
		other.Address)
	mustDo(t, err)
	before := d.must(t, "access", "list", "-json")

	began := time.Now()
	r := d.client(t, "", "survey", "-region", "south-pier", "-inside", "-json")
	var got struct {
		Work  wire.Work
		Items []wire.LastSurvey
	}
	if err := json.Unmarshal([]byte(r.out), &got); err != nil || r.code != 0 {
		t.Fatalf("%v %+v", err, r)
	}
	if took := time.Since(began); took > 80*time.Second {
		t.Errorf("it took %v", took)
	}
	if len(got.Items) != len(names) || !strings.Contains(got.Work.Outcome, "3 of 10 surveyed") ||
		!strings.Contains(got.Work.Outcome, "7 could not be seen") {
		t.Errorf("%d items, %s", len(got.Items), got.Work.Outcome)
	}
	for _, l := range got.Items {
		want := odds[l.Instance]
		if (l.Trouble == "") != (want == "") || !strings.Contains(l.Trouble, want) {
			t.Errorf("%s: %q, want %q", l.Instance, l.Trouble, want)
		}
	}
	if after := d.must(t, "access", "list", "-json", "-evidence", "none"); strings.Contains(after, "odd-") {
		t.Errorf("what could not be seen is said to be gone:\n%s\nbefore:\n%s", after, before)
	}
	has(t, "today", d.reasonsOf(t, "instance", "odd-hostkey"), "host-key-changed", true)
	has(t, "today", d.reasonsOf(t, "instance", "odd-silent"), "survey-failed", true)
	has(t, "today", d.reasonsOf(t, "instance", "odd-hostkey"), "survey-failed", false)
	contains(t, "for people", d.client(t, "", "survey", "odd-refused", "fine-2").out, "nothing listens",
		"As recorded: 1 survey")
	for _, n := range names { // the cloud still knows where each is
		_ = d.client(t, "", "instance", "remove", n, "-yes", "-detach")
	}
}

// TestSurveySchedule: the service surveys by itself, never one instance twice
// at once, and a server that says nothing holds up none of the others.
func TestSurveySchedule(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 75)
	one := &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token}
	for _, n := range []string{"turn-1", "turn-2", "turn-3", "turn-silent"} {
		one.launchBoard(t, n, s.key)
	}
	db := s.connect(t)
	ctx := context.Background()
	_, err := db.Exec(ctx, "UPDATE instances SET address = '127.0.0.1', port = $1 WHERE name = 'turn-silent'",
		odd(t, "silent"))
	mustDo(t, err)
	one.must(t, "policy", "set", writeFile(t, "survey:\n  every: 1m\n"))
	due := func() {
		_, err := db.Exec(ctx, "UPDATE survey_turns SET due_at = now() - interval '1 s' WHERE busy_until IS NULL")
		mustDo(t, err)
	}
	due()
	// Two replicas, one at a time each.
	for range 2 {
		port := freePorts(1)
		cmd := s.command("serve", "-listen", fmt.Sprintf("127.0.0.1:%d", port), "-surveys", "2")
		mustDo(t, cmd.Start())
		t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	}
	count := func(where string) (n int) {
		mustDo(t, db.QueryRow(ctx, "SELECT count(*) FROM surveys v JOIN instances i ON i.id = v.instance_id WHERE "+
			where).Scan(&n))
		return n
	}
	waitFor(t, "the others, though one is silent",
		func() bool { return count("v.sort = 'inside' AND v.seen_at IS NOT NULL") == 3 })
	waitFor(t, "the silent one", func() bool { return count("i.name = 'turn-silent' AND v.trouble <> ''") > 0 })
	if n := count("v.sort = 'outside' AND v.seen_at IS NOT NULL"); n != 3 {
		t.Errorf("%d were asked from outside", n)
	}
	var next, spread float64
	mustDo(t, db.QueryRow(ctx, "SELECT max(extract(epoch FROM due_at - now())), max(extract(epoch FROM due_at)) - "+
		"min(extract(epoch FROM due_at)) FROM survey_turns t JOIN instances i ON i.id = t.instance_id WHERE name "+
		"<> 'turn-silent'").Scan(&next, &spread))
	if next > 67 || spread == 0 {
		t.Errorf("the next turn is in %v s, spread over %v s", next, spread)
	}
	// While it is looked at, nobody else looks.
	due()
	waitFor(t, "its turn", func() (busy bool) {
		mustDo(t, db.QueryRow(ctx, "SELECT coalesce(busy_until > now(), false) FROM survey_turns t JOIN instances "+
			"i ON i.id = t.instance_id WHERE name = 'turn-silent'").Scan(&busy))
		return busy
	})
	if r := one.client(t, "", "survey", "turn-silent"); r.code != 1 ||
		!strings.Contains(r.err, "a survey of it is at hand") {
		t.Errorf("while it is looked at: %+v", r)
	}
	// An adopted one is not asked from outside by the service itself, until that is allowed.
	waitFor(t, "the end of those at hand", func() (rest bool) {
		mustDo(t, db.QueryRow(ctx, "SELECT count(*) = 0 FROM survey_turns t JOIN instances i ON i.id = "+
			"t.instance_id WHERE busy_until > now() AND name <> 'turn-silent'").Scan(&rest))
		return rest
	})
	_, err = db.Exec(ctx, "UPDATE instances SET probe_allowed = false WHERE name = 'turn-1'; DELETE FROM surveys")
	mustDo(t, err)
	due()
	waitFor(t, "another turn", func() bool { return count("i.name IN ('turn-1', 'turn-2') AND v.sort = 'inside'") == 2 })
	if count("i.name = 'turn-1' AND v.sort = 'outside'") != 0 ||
		count("i.name = 'turn-2' AND v.sort = 'outside'") != 1 {
		t.Error("one that is not allowed was asked from outside, or one that is was not")
	}
	contains(t, "allowed", one.must(t, "instance", "probing", "turn-1", "yes"), "a line in the server's log")
	due()
	waitFor(t, "asked once allowed", func() bool { return count("i.name = 'turn-1' AND v.sort = 'outside'") == 1 })
	// Every 0: never.
	one.must(t, "policy", "set", writeFile(t, "survey:\n  every: 0\n"))
	time.Sleep(1200 * time.Millisecond)
	_, err = db.Exec(ctx, "DELETE FROM surveys")
	mustDo(t, err)
	due()
	time.Sleep(2500 * time.Millisecond)
	if n := count("i.name <> 'turn-silent'"); n != 0 {
		t.Errorf("%d were surveyed though the policy says never", n)
	}
}

// TestDiscovery: what the cloud has and the ledger does not, what it has no more, and its label.
func TestDiscovery(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	d := newDemo(dir)
	mustDo(t, d.start("-seed=false", "-follow=300ms", "-surveys=0"))
	t.Cleanup(func() { _ = d.stop() })
	d.must(t, "key", "create", "found-key", "-dir", dir)
	d.launchBoard(t, "found-board", "found-key")
	contains(t, "nothing", d.must(t, "discover"), "are the same")
	var in struct{ ID string }
	mustDo(t, standinCallAt(d, "POST", "/v1/instances",
		`{"client_token":"stray","name":"stray-pump","region":"skerry-island","image":"debian-12","size":"small","key_label":"pump\u001b[31mkey","user_data":"#cloud-config\n"}`, &in))
	waitFor(t, "it is found by itself", func() bool { return d.todayOf(t).Counts["unknown-instance"] == 1 })
	out := d.must(t, "discover")
	contains(t, "unknown", out, "stray-pump", in.ID, "skerry-island", "the cloud's label says",
		"plumlatch discover adopt "+in.ID)
	if strings.Contains(out, "\x1b") {
		t.Error("a label steers the terminal")
	}
	// Somebody removes one of ours in the cloud.
	board := d.instance(t, "found-board")
	mustDo(t, standinCallAt(d, "DELETE", "/v1/instances/"+board.CloudID+"?client_token=by-hand", "", &struct{}{}))
	waitFor(t, "it is missed", func() bool { return d.todayOf(t).Counts["vanished-instance"] == 1 })
	contains(t, "gone", d.must(t, "discover"), "found-board", "missed since")
	if got := d.reasonsOf(t, "instance", "found-board"); len(got) != 1 {
		t.Errorf("a vanished instance has other matters: %q", got)
	}
	mustDo(t, standinCallAt(d, "DELETE", "/v1/instances/"+in.ID+"?client_token=by-hand-2", "", &struct{}{}))
	waitFor(t, "the stray is gone", func() bool { return d.todayOf(t).Counts["unknown-instance"] == 0 })

	// The label names the key of the launch; a name that the key had is the same key.
	d.launchBoard(t, "label-board", "found-key")
	d.must(t, "key", "rename", "found-key", "found-key-2027")
	waitFor(t, "the label", func() bool { return d.instance(t, "label-board").KeyLabel == "found-key" })
	has(t, "a former name", d.reasonsOf(t, "instance", "label-board"), "label-differs", false)
	_, err := d.database(t).Exec(context.Background(), "UPDATE keys SET former_names = '[]'")
	mustDo(t, err)
	has(t, "another key", d.reasonsOf(t, "instance", "label-board"), "label-differs", true)
	contains(t, "labels", d.must(t, "discover"), "label differs",
		"label: found-key; recorded: found-key-2027")
}
