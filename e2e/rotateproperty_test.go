package e2e

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"plumlatch/core/authkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/wire"
)

var propertySeed = flag.Uint64("property-seed", 0, "seed of the random sequences of TestRotationProperty")

// odds has the stand-in make an instance's disk or clock odd.
func (s *slot) odds(t *testing.T, id, body string) {
	t.Helper()
	mustDo(t, standinCall("POST", "/v1/instances/"+id+"/odds", body, nil))
}

// TestRotationProperty does random sequences of rotations, shared access and
// withdrawals on one instance, while another writer appends lines, disks fail at
// a random change, and services are killed at a random moment. After every single
// change over SFTP the stand-in keeps what stands in the file: each state must
// have a free line of a person's key that was shown to exist (rule 1), and the
// lines of others.
func TestRotationProperty(t *testing.T) {
	t.Parallel()
	seed := *propertySeed
	if seed == 0 {
		seed = rand.Uint64()
	}
	t.Logf("-property-seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 1))
	s := newSlot(t, 97)
	var up *replica
	begin := func() *demo {
		t.Helper()
		r, err := s.start("", "")
		mustDo(t, err)
		up = r
		return &demo{dir: s.dir, url: r.url, token: s.token}
	}
	d := newHome(t, begin())
	t.Cleanup(func() { up.end() })
	dir, none := t.TempDir(), writeFile(t, "")
	var keys []string
	public := map[string]keypair.Public{}
	for n := range 4 {
		k := fmt.Sprintf("chance-%d", n)
		d.must(t, "key", "create", k, "-dir", dir, "-new-passphrase", none)
		p, err := publicOf(filepath.Join(dir, k+".pub"))
		mustDo(t, err)
		keys, public[k] = append(keys, k), p
	}
	d.launchBoard(t, "chance-board", keys[0])
	id := d.instance(t, "chance-board").CloudID
	file := filepath.Join(shared.path("standin", "instances", id), "home/debian/.ssh/authorized_keys")
	mustDo(t, os.WriteFile(file, []byte("# by hand\n"+mustRead(t, file)), 0o600))
	recorded := func() (out []string) {
		var list wire.List[wire.Access]
		mustDo(t, json.Unmarshal([]byte(d.must(t, "access", "list", "-instance", "chance-board", "-json")), &list))
		for _, a := range list.Items {
			if !a.Steward {
				out = append(out, a.Key)
			}
		}
		return out
	}
	var foreign []string
	var did []string
	const rounds = 10
	for round := range rounds {
		s.odds(t, id, `{"watch":true}`)
		now := recorded()
		if len(now) == 0 {
			t.Fatalf("round %d: nobody is recorded after %q", round, did)
		}
		old := now[random.IntN(len(now))]
		fresh := keys[random.IntN(len(keys))]
		var args []string
		switch random.IntN(5) {
		case 0, 1, 2:
			args = []string{"rotate", "chance-board", "-old", old, "-new", fresh, "-dir", dir, "-grace",
				[]string{"0", "3s", "1h"}[random.IntN(3)]}
		case 3:
			args = []string{"access", "add", "chance-board", "-key", fresh, "-for", "3s"}
		default:
			args = []string{"access", "remove", "-yes", "chance-board", "-key", old}
		}
		fault := random.IntN(4)
		switch fault {
		case 0:
			s.odds(t, id, fmt.Sprintf(`{"watch":true,"disk":%q,"after":%d}`,
				[]string{"full", "read-only"}[random.IntN(2)], random.IntN(8)))
		case 1: // killed at a random moment, and another one is there
			pause := time.Duration(random.IntN(700)) * time.Millisecond
			dead := up
			go func() {
				time.Sleep(pause)
				_ = dead.cmd.Process.Kill()
			}()
		}
		line := "# of another writer, round " + fmt.Sprint(round)
		foreign = append(foreign, line)
		pause := time.Duration(random.IntN(400)) * time.Millisecond
		wrote := make(chan error, 1)
		go func() {
			time.Sleep(pause)
			f, err := os.OpenFile(file, os.O_APPEND|os.O_WRONLY, 0)
			if err == nil {
				text := line + "\n"
				if data, e := os.ReadFile(file); e == nil && !bytes.HasSuffix(data, []byte("\n")) {
					text = "\n" + text
				}
				_, err = f.WriteString(text)
				f.Close()
			}
			wrote <- err
		}()
		did = append(did, fmt.Sprintf("%q fault %d", args, fault))
		_ = d.client(t, "", args...)
		mustDo(t, <-wrote)
		if fault == 1 {
			up.end()
			*d = *newHome(t, begin())
		}
		s.odds(t, id, `{}`)
		time.Sleep(time.Duration(random.IntN(1500)) * time.Millisecond)
		if random.IntN(3) == 0 { // back, whatever is at hand
			var list wire.List[wire.Work]
			mustDo(t, json.Unmarshal([]byte(d.must(t, "work", "list", "-state", "open", "-json")), &list))
			for _, w := range list.Items {
				did = append(did, fmt.Sprintf("cancel %d (%s)", w.ID, w.Kind))
				_ = d.client(t, "", "work", "cancel", fmt.Sprint(w.ID), "-detach")
			}
		}
		waitFor(t, "rest, after "+strings.Join(did, "; "), func() bool {
			var list wire.List[wire.Work]
			mustDo(t, json.Unmarshal([]byte(d.must(t, "work", "list", "-state", "open", "-json")), &list))
			for _, w := range list.Items { // what waits for a far end is at rest
				if w.State == "stuck" { // the disk failed on the way back, too: it is mended now
					did = append(did, fmt.Sprintf("retry %d: %s", w.ID, w.Outcome))
					_ = d.client(t, "", "work", "retry", fmt.Sprint(w.ID), "-detach")
					return false
				}
				if w.State == "waiting" && strings.Contains(w.WaitsFor, "if nobody does, this goes back") {
					// The client went down with the service: the holder shows it later, by hand.
					for _, k := range keys {
						_ = d.client(t, "", "key", "prove", k, "-identity", filepath.Join(dir, k))
					}
					return false
				}
				if w.State != "waiting" || !strings.Contains(w.WaitsFor, "the end of the grace time, ") ||
					!far(w.WaitsFor) {
					return false
				}
			}
			return true
		})
		var seen []string
		mustDo(t, standinCall("GET", "/v1/instances/"+id+"/seen", "", &seen))
		for _, text := range append(seen, mustRead(t, file)) {
			free := false
			for _, l := range authkeys.Parse([]byte(text), time.UTC) {
				for _, p := range public {
					free = free || l.Err == nil && bytes.Equal(l.Blob, p.Blob) && l.Options.Text == ""
				}
			}
			if !free || !strings.Contains(text, "# by hand\n") {
				t.Fatalf("seed %d: nobody gets in at a moment, after\n%s\n--- the file was\n%s", seed,
					strings.Join(did, "\n"), text)
			}
		}
		for _, l := range foreign {
			if strings.Count(mustRead(t, file), l+"\n") != 1 {
				t.Fatalf("seed %d: %q stands there %d times after\n%s\n%s", seed, l,
					strings.Count(mustRead(t, file), l), strings.Join(did, "\n"), mustRead(t, file))
			}
		}
	}
	// A disk that failed on the way back, too, may have kept something: the next edit takes it away.
	d.must(t, "key", "create", "chance-last", "-dir", dir, "-new-passphrase", none)
	d.must(t, "access", "add", "chance-board", "-key", "chance-last", "-for", "1h")
	if left, err := filepath.Glob(filepath.Join(filepath.Dir(file), "*plumlatch-*")); err != nil || len(left) > 0 {
		t.Errorf("left behind: %q %v", left, err)
	}
	t.Logf("%d rounds:\n%s", rounds, strings.Join(did, "\n"))
}

// far tells whether the time that is waited for is more than a minute away.
func far(waits string) bool {
	_, rest, _ := strings.Cut(waits, "the end of the grace time, ")
	text, _, _ := strings.Cut(rest, ";")
	end, err := time.Parse("2006-01-02 15:04 UTC", strings.TrimSpace(text))
	return err == nil && time.Until(end) > time.Minute
}

// TestLeftBeside: a disk that becomes read-only before an edit has taken its own file away again
// keeps that file. It is said, and gone with the next edit.
func TestLeftBeside(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 137)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	dir, none := t.TempDir(), writeFile(t, "")
	d.must(t, "key", "create", "left-guest", "-dir", dir, "-new-passphrase", none)
	d.launchBoard(t, "left-board", s.key)
	id := d.instance(t, "left-board").CloudID
	beside := func() (out []string) {
		out, err := filepath.Glob(filepath.Join(shared.path("standin", "instances", id), "home/debian/.ssh/*plumlatch-*"))
		mustDo(t, err)
		return out
	}
	kept := 0
	for after := range 5 {
		s.odds(t, id, fmt.Sprintf(`{"disk":"read-only","after":%d}`, after))
		r := d.client(t, "", "access", "add", "left-board", "-key", "left-guest", "-for", "1h")
		if r.code == 0 {
			break // the disk lasted
		}
		s.odds(t, id, `{}`)
		if len(beside()) > 0 {
			kept++
			contains(t, fmt.Sprint("after ", after), r.out+r.err, "is left")
		}
	}
	if kept == 0 {
		t.Error("nothing was ever left: this test shows nothing")
	}
	s.odds(t, id, `{}`)
	d.must(t, "key", "create", "left-next", "-dir", dir, "-new-passphrase", none)
	d.must(t, "access", "add", "left-board", "-key", "left-next", "-for", "1h")
	if left := beside(); len(left) > 0 {
		t.Errorf("left behind: %q", left)
	}
}

// TestClockOff: an instance whose clock is an hour ahead, or behind, ends a
// shared access when it was meant to end, and not an hour off.
func TestClockOff(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 98)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	dir, none := t.TempDir(), writeFile(t, "")
	d.must(t, "key", "create", "clock-guest", "-dir", dir, "-new-passphrase", none)
	d.must(t, "key", "create", "clock-next", "-dir", dir, "-new-passphrase", none)
	for _, ahead := range []int{3600, -3600} {
		name := fmt.Sprintf("clock-board-%d", ahead+4000)
		d.launchBoard(t, name, s.key)
		id := d.instance(t, name).CloudID
		s.odds(t, id, fmt.Sprintf(`{"ahead_seconds":%d}`, ahead))
		d.must(t, "access", "add", name, "-key", "clock-guest", "-for", "30m")
		file := filepath.Join(shared.path("standin", "instances", id), "home/debian/.ssh/authorized_keys")
		ends := func() time.Time {
			for _, l := range authkeys.Parse([]byte(mustRead(t, file)), time.UTC) {
				if l.Err == nil && !l.Options.Expires.IsZero() {
					return l.Options.Expires
				}
			}
			return time.Time{}
		}
		off := func(want time.Duration) time.Duration {
			return time.Until(ends().Add(-time.Duration(ahead)*time.Second)) - want
		}
		if o := off(30 * time.Minute); o.Abs() > time.Minute {
			t.Errorf("%d s ahead: the end is off by %v", ahead, o)
		}
		// The server itself takes it now: by its clock, too.
		contains(t, name, d.must(t, "access", "list", "-instance", name, "-key", "clock-guest"), "accepted")
		d.must(t, "access", "extend", name, "-key", "clock-guest", "-for", "45m")
		if o := off(45 * time.Minute); o.Abs() > time.Minute {
			t.Errorf("%d s ahead, extended: the end is off by %v", ahead, o)
		}
		d.must(t, "access", "remove", "-yes", name, "-key", "clock-guest")
		waitFor(t, "rest", func() bool { return !strings.Contains(d.must(t, "work", "list", "-state", "open"), name) })
		d.must(t, "rotate", name, "-old", s.key, "-new", "clock-next", "-dir", dir, "-grace", "40m")
		if o := off(40 * time.Minute); o.Abs() > time.Minute {
			t.Errorf("%d s ahead, the grace time: the end is off by %v", ahead, o)
		}
	}
}
