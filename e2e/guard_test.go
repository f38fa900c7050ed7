package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/core/keypair"
	"plumlatch/core/wire"
)

// The examples of rule 1, each by itself, on instances whose keys the test holds:
// ways in which people were left without any way in.

// door is an instance with one fresh key K of a person.
type door struct {
	*demo
	t          *testing.T
	s          *slot
	name, file string
	dir        string
}

func (d *door) key(name string, more ...string) string {
	d.t.Helper()
	d.must(d.t, append([]string{"key", "create", name, "-dir", d.dir, "-new-passphrase", writeFile(d.t, "")},
		more...)...)
	return name
}

// opens tells whether a key's file logs in, by this machine's own ssh.
func (d *door) opens(key string) bool {
	d.t.Helper()
	return d.client(d.t, "", "open", d.name, "-identity", filepath.Join(d.dir, key), "--", "true").code == 0
}

func (d *door) work(args ...string) wire.Work {
	d.t.Helper()
	var w wire.Work
	unmarshal(d.t, d.must(d.t, append(args, "-detach", "-json")...), &w)
	return w
}

func (d *door) ended(id int64) wire.Work {
	d.t.Helper()
	var w wire.Work
	defer func() {
		if d.t.Failed() {
			d.t.Logf("at %s (%s %s): %s", w.StepName, w.WaitsCode, w.WaitsFor, d.must(d.t, "work", "show", fmt.Sprint(id)))
		}
	}()
	waitFor(d.t, fmt.Sprintf("the end of work %d", id), func() bool {
		unmarshal(d.t, d.must(d.t, "work", "show", fmt.Sprint(id), "-json"), &w)
		return w.Over()
	})
	return w
}

func (d *door) last(kind string) wire.Work {
	d.t.Helper()
	var list wire.List[wire.Work]
	unmarshal(d.t, d.must(d.t, "work", "list", "-kind", kind, "-json"), &list)
	for _, w := range list.Items {
		if w.Instance == d.name {
			return w
		}
	}
	d.t.Fatalf("no %s of %s", kind, d.name)
	return wire.Work{}
}

func TestGuardExamples(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 131)
	base := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	base.must(t, "holder", "add", "guard-person")
	base.must(t, "holder", "add", "guard-job", "-sort", "job")
	var count atomic.Int64
	newDoor := func(t *testing.T) (*door, string) {
		t.Helper()
		n := count.Add(1)
		own := *base
		d := &door{demo: &own, t: t, s: s, dir: t.TempDir(), name: fmt.Sprintf("guard-%d", n)}
		k := d.key(fmt.Sprintf("g%d-k", n))
		d.launchBoard(t, d.name, k)
		i := d.instance(t, d.name)
		d.file = filepath.Join(shared.path("standin", "instances", i.CloudID), "home/debian/.ssh/authorized_keys")
		return d, k
	}
	still := func(t *testing.T, d *door, keys ...string) {
		t.Helper()
		for _, k := range keys {
			if !d.opens(k) {
				t.Errorf("%s opens %s no more:\n%s", k, d.name, mustRead(t, d.file))
			}
		}
	}

	t.Run("a name is no identity", func(t *testing.T) {
		t.Parallel()
		d, k := newDoor(t)
		r := d.client(t, "", "access", "remove", "-yes", d.name, "-key", k)
		if r.code == 0 {
			t.Fatalf("the only key was withdrawn: %+v", r)
		}
		w := d.last("access-remove")
		d.must(t, "key", "rename", k, k+"-2")
		_ = d.client(t, "", "work", "retry", fmt.Sprint(w.ID))
		if w = d.ended(w.ID); w.State == "done" {
			t.Errorf("renamed, and withdrawn: %+v", w)
		}
		still(t, d, k)
		// While it runs, and onto the other's name.
		other := d.key(k + "-other")
		w = d.work("access", "remove", "-yes", d.name, "-key", k+"-2")
		d.must(t, "key", "rename", other, k+"-third")
		d.must(t, "key", "rename", k+"-2", other)
		if w = d.ended(w.ID); w.State == "done" {
			t.Errorf("renamed while it ran, and withdrawn: %+v", w)
		}
		still(t, d, k)
	})

	// The end of a grace time is kept by the server itself. What it rested on may be marked
	// meanwhile: then the end is taken back.
	t.Run("what an end rested on is given up", func(t *testing.T) {
		t.Parallel()
		for what, mark := range map[string]func(t *testing.T, d *door, fresh string){
			"lost": func(t *testing.T, d *door,
				fresh string) {
				d.must(t, "key", "lost", fresh, "-yes")
			},
			"a job's": func(t *testing.T, d *door,
				fresh string) {
				d.must(t, "key", "set", fresh, "-holder", "guard-job")
			},
			"retired": func(t *testing.T, d *door,
				fresh string) {
				d.must(t, "key", "retire", fresh)
			},
			"held by nobody knows whom": func(t *testing.T, d *door,
				fresh string) {
				d.must(t, "key", "set", fresh, "-holder", "")
			},
		} {
			t.Run(what, func(t *testing.T) {
				t.Parallel()
				d, k := newDoor(t)
				fresh := d.key(k + "-next")
				d.must(t, "rotate", d.name, "-old", k, "-new", fresh, "-dir", d.dir, "-grace", "10m")
				w := d.last("rotate")
				waitFor(t, "the grace time", func() bool { return d.workByID(t, w.ID).WaitsCode == wire.WaitsGrace })
				if !strings.Contains(mustRead(t, d.file), "expiry-time=") {
					t.Fatalf("no end was given:\n%s", mustRead(t, d.file))
				}
				mark(t, d, fresh)
				if w = d.ended(w.ID); w.State != "failed" ||
					!strings.Contains(w.Outcome, "cannot end with its grace time any more") {
					t.Errorf("%s: %s", w.State, w.Outcome)
				}
				if text := mustRead(t, d.file); strings.Contains(text, "expiry-time=") {
					t.Errorf("the end stands there still:\n%s", text)
				}
				still(t, d, k)
			})
		}
	})

	// In its last moments nothing is marked that it rests on: it waits, or is refused.
	t.Run("marks wait for an end that is near", func(t *testing.T) {
		t.Parallel()
		d, k := newDoor(t)
		fresh := d.key(k + "-next")
		d.must(t, "rotate", d.name, "-old", k, "-new", fresh, "-dir", d.dir, "-grace", "12s")
		w := d.last("rotate")
		d.must(t, "key", "set", fresh, "-holder", "guard-job")
		if w = d.ended(w.ID); w.State != "done" {
			t.Errorf("%s: %s", w.State, w.Outcome)
		}
		var ended, marked time.Time
		mustDo(t, d.s.connect(t).QueryRow(t.Context(), "SELECT (data->>'ends')::timestamptz FROM work WHERE id = $1",
			w.ID).Scan(&ended))
		mustDo(t, d.s.connect(t).QueryRow(t.Context(),
			"SELECT max(at) FROM journal WHERE action = 'key.change' AND target = 'key ' || $1", fresh).Scan(&marked))
		if marked.Before(ended) {
			t.Errorf("marked at %s, before the end at %s", marked, ended)
		}
	})

	// Refused while its line was out, and taken again once it is back: it is no key that
	// opens nothing.
	t.Run("what was answered before a line came back says nothing", func(t *testing.T) {
		t.Parallel()
		d, k := newDoor(t)
		second := d.key(k + "-second")
		d.must(t, "access", "add", d.name, "-key", second)
		var w wire.Work
		for { // it may be over before anybody can say that it is to go back
			w = d.work("access", "remove", "-yes", d.name, "-key", second)
			waitFor(t, "it to be refused", func() bool {
				now := d.workByID(t, w.ID)
				return now.StepName == "settle" ||
					now.Over()
			})
			_ = d.client(t, "", "work", "cancel", fmt.Sprint(w.ID))
			if w = d.ended(w.ID); w.State != "done" {
				break
			}
			d.must(t, "access", "add", d.name, "-key", second)
		}
		if w.State != "cancelled" {
			t.Fatalf("%s: %s", w.State, w.Outcome)
		}
		still(t, d, k, second)
		var kept string // what was taken is back: nothing puts it back once more
		mustDo(t, d.s.connect(t).QueryRow(t.Context(),
			"SELECT concat(data->>'narrowed', data->>'taken') FROM work WHERE id = $1", w.ID).Scan(&kept))
		if kept != "" {
			t.Errorf("kept to put back: %s", kept)
		}
		// The other one goes by hand. The one that came back is the last then.
		blob := strings.Fields(mustRead(t, filepath.Join(d.dir, k+".pub")))[1]
		var lines []string
		for line := range strings.Lines(mustRead(t, d.file)) {
			if !strings.Contains(line, blob) {
				lines = append(lines, line)
			}
		}
		mustDo(t, os.WriteFile(d.file, []byte(strings.Join(lines, "")), 0o600))
		_ = d.client(t, "", "work", "retry", fmt.Sprint(w.ID))
		if w = d.ended(w.ID); w.State == "done" {
			t.Errorf("the last one was taken: %+v", w)
		}
		still(t, d, second)
	})

	t.Run("going back is a change too", func(t *testing.T) {
		t.Parallel()
		for what, meanwhile := range map[string]func(t *testing.T, d *door, old string){
			"the old key is lost": func(t *testing.T, d *door,
				old string) {
				d.must(t, "key", "lost", old, "-yes")
			},
			"the old key is a job's": func(t *testing.T, d *door,
				old string) {
				d.must(t, "key", "set", old, "-holder", "guard-job")
			},
			"the old key is retired": func(t *testing.T, d *door, old string) { d.must(t, "key", "retire", old) },
			"nobody knows whose it is": func(t *testing.T, d *door,
				old string) {
				d.must(t, "key", "set", old, "-holder", "")
			},
			"its private half is aged": func(t *testing.T, d *door, old string) {
				d.s.exec(t, "UPDATE keys SET shown_at = now() - interval '1 year' WHERE name = $1", old)
			},
			"it was never shown at all": func(t *testing.T, d *door, old string) {
				d.s.exec(t, "UPDATE keys SET shown_at = NULL WHERE name = $1", old)
			},
		} {
			t.Run(what, func(t *testing.T) {
				t.Parallel()
				d, k := newDoor(t)
				fresh := d.key(k + "-new")
				d.must(t, "rotate", d.name, "-old", k, "-new", fresh, "-dir", d.dir, "-grace", "1h")
				meanwhile(t, d, k)
				w := d.last("rotate")
				_ = d.client(t, "", "work", "cancel", fmt.Sprint(w.ID))
				w = d.ended(w.ID)
				still(t, d, fresh)
				if !strings.Contains(w.Outcome, "both "+k+" and "+fresh+" open") ||
					!strings.Contains(w.Outcome, "access remove "+d.name+" -key "+fresh) {
					t.Errorf("it does not say that both stay: %s %s", w.State, w.Outcome)
				}
			})
		}
	})

	t.Run("other openers go during the grace time", func(t *testing.T) {
		t.Parallel()
		d, k := newDoor(t)
		second, fresh := d.key(k+"-second"), d.key(k+"-new")
		d.must(t, "access", "add", d.name, "-key", second)
		d.must(t, "rotate", d.name, "-old", k, "-new", fresh, "-dir", d.dir, "-grace", "1h")
		d.must(t, "access", "remove", "-yes", d.name, "-key", second)
		d.must(t, "key", "lost", k, "-yes")
		w := d.last("rotate")
		_ = d.client(t, "", "work", "cancel", fmt.Sprint(w.ID))
		d.ended(w.ID)
		still(t, d, fresh)
	})

	t.Run("a shared access goes back", func(t *testing.T) {
		t.Parallel()
		d, k := newDoor(t)
		guest := d.key(k + "-guest")
		w := d.work("access", "add", d.name, "-key", guest, "-for", "1h")
		waitFor(t, "it to be in", func() bool { return strings.Contains(mustRead(t, d.file), guest) && d.opens(guest) })
		d.must(t, "key", "lost", k, "-yes")
		_ = d.client(t, "", "work", "cancel", fmt.Sprint(w.ID))
		d.ended(w.ID)
		still(t, d, guest)
	})

	t.Run("a word is no proof", func(t *testing.T) {
		t.Parallel()
		d, k := newDoor(t)
		ghost := newJudgeKey(t, k+"-ghost") // nobody will ever have its private half again
		d.must(t, "key", "import", ghost.name, writeFile(t, ghost.pub+"\n"), "-holder", "guard-person")
		w := d.work("rotate", d.name, "-old", k, "-new", ghost.name, "-grace", "0", "-yes")
		waitFor(t, "the wait for a proof", func() bool {
			now := d.last("rotate")
			return strings.Contains(now.WaitsFor, "private half") || now.Over()
		})
		if a := d.api(t, "POST", fmt.Sprintf("/api/v1/work/%d/login", w.ID),
			mustJSON(t, map[string]string{"fingerprint": ghost.id})); a.status >= 300 {
			t.Errorf("a word is not heard at all: %d %s", a.status, a.body)
		}
		time.Sleep(3 * time.Second)
		still(t, d, k)
		if now := d.last("rotate"); now.Over() {
			t.Errorf("it ended: %+v", now)
		}
		// A signature of another key, or for another work, is none either.
		var ch wire.Challenge
		unmarshal(t, d.api(t, "POST", "/api/v1/keys/"+ghost.name+"/challenge",
			mustJSON(t, wire.ChallengeRequest{Work: w.ID, Instance: d.name})).body, &ch)
		if a := d.api(t, "POST", fmt.Sprintf("/api/v1/work/%d/login", w.ID),
			mustJSON(t, wire.LoginReport{Fingerprint: ghost.id, Nonce: ch.Nonce,
				Signature: signedBy(t, filepath.Join(d.dir, k), ch.Text)})); a.status != 422 {
			t.Errorf("another key's signature: %d %s", a.status, a.body)
		}
		// And no word makes a login proven.
		var list wire.List[wire.Access]
		unmarshal(t, d.must(t, "access", "list", "-instance", d.name, "-json"), &list)
		for _, a := range list.Items {
			if !a.Steward {
				_ = d.api(t, "POST", fmt.Sprintf("/api/v1/access/%d/login", a.ID), "")
			}
		}
		if text := d.must(t, "access", "list", "-instance", d.name, "-key", ghost.name,
			"-json"); strings.Contains(text, `"proven"`) {
			t.Errorf("a word is proven: %s", text)
		}
		if !strings.Contains(d.api(t, "GET", "/api/v1/journal?limit=200", "").body, "by the client's word alone") {
			t.Error("the word is not kept as one")
		}
		_ = d.client(t, "", "work", "cancel", fmt.Sprint(w.ID))
		d.ended(w.ID)
		still(t, d, k)
	})

	t.Run("an end is a narrowing", func(t *testing.T) {
		t.Parallel()
		d, k := newDoor(t)
		guest := d.key(k + "-guest")
		d.must(t, "access", "add", d.name, "-key", guest, "-for", "1h")
		pub := strings.Join(strings.Fields(mustRead(t, filepath.Join(d.dir, guest+".pub")))[:2], " ")
		byHand := pub + " by hand, for ever"
		mustDo(t, os.WriteFile(d.file, []byte(mustRead(t, d.file)+"\n"+byHand+"\n"), 0o600))
		before := strings.Count(mustRead(t, d.file), "expiry-time=")
		out := d.client(t, "", "access", "extend", d.name, "-key", guest, "-for", "3h")
		if text := mustRead(t, d.file); !strings.Contains(text, "\n"+byHand+"\n") ||
			strings.Count(text, "expiry-time=") != before {
			t.Errorf("the line of another was given an end:\n%s", text)
		}
		contains(t, "told", out.err+out.out, "1 other line", "stays as it is")
		// Where none bears an end of ours, nothing is changed, and that is said.
		mustDo(t, os.WriteFile(d.file, []byte(strings.ReplaceAll(mustRead(t, d.file), "expiry-time=\"",
			"expiry-time=\"2098")), 0o600))
		text := strings.ReplaceAll(mustRead(t, d.file), "expiry-time=\"2098", "expiry-time=\"")
		end := text[strings.Index(text, "expiry-time=\"")+len("expiry-time=\""):]
		mustDo(t, os.WriteFile(d.file, []byte(strings.Replace(text, end[:14], "20990101000000", 1)), 0o600))
		text = mustRead(t, d.file)
		if r := d.client(t, "", "access", "extend", d.name, "-key", guest, "-for", "4h"); r.code == 0 ||
			mustRead(t, d.file) != text {
			t.Errorf("somebody else's end was moved: %+v\n%s", r, mustRead(t, d.file))
		}
	})

	t.Run("a mark is no way round", func(t *testing.T) {
		t.Parallel()
		for what, mark := range map[string]func(d *door, k string){
			"lost":    func(d *door, k string) { d.must(t, "key", "lost", k, "-yes") },
			"a job's": func(d *door, k string) { d.must(t, "key", "set", k, "-holder", "guard-job") },
			"retired": func(d *door, k string) { d.must(t, "key", "retire", k) },
		} {
			d, k := newDoor(t)
			r := d.client(t, "", "access", "remove", "-yes", d.name, "-key", k)
			if r.code == 0 {
				t.Fatalf("%+v", r)
			}
			w := d.last("access-remove")
			mark(d, k)
			_ = d.client(t, "", "work", "retry", fmt.Sprint(w.ID))
			if w = d.ended(w.ID); w.State == "done" {
				t.Errorf("%s after it was refused: %+v", what, w)
			}
			still(t, d, k)
			// A new wish, for a key that is marked already: still nobody else gets in.
			if r := d.client(t, "", "access", "remove", "-yes", d.name, "-key", k); r.code == 0 {
				t.Errorf("%s, and nobody gets in any more: %+v", what, r)
			}
			still(t, d, k)
			if r := d.client(t, "", "access", "remove", "-yes", d.name, "-key", k, "-cut-off", "1"); r.code != 0 {
				t.Errorf("%s, by number: %+v", what, r)
			}
		}
	})

	t.Run("what nobody knows whose counts for nothing", func(t *testing.T) {
		t.Parallel()
		d, k := newDoor(t)
		loose := newJudgeKey(t, k+"-loose")
		d.must(t, "key", "import", loose.name, writeFile(t, loose.pub+"\n"))
		d.must(t, "access", "add", d.name, "-key", loose.name)
		d.s.exec(t, "UPDATE keys SET shown_at = now() WHERE name = $1", loose.name)
		if r := d.client(t, "", "access", "remove", "-yes", d.name, "-key", k); r.code == 0 ||
			!strings.Contains(r.err, "no holder") {
			t.Errorf("%+v", r)
		}
		still(t, d, k)
		// It is guarded as a person's where it is taken, and k counts as the other.
		d.must(t, "access", "remove", "-yes", d.name, "-key", loose.name)
		still(t, d, k)
	})

	t.Run("marks wait for a write that rests on them", func(t *testing.T) {
		t.Parallel()
		d, k := newDoor(t)
		second := d.key(k + "-second")
		d.must(t, "access", "add", d.name, "-key", second)
		conn := d.s.connect(t)
		var work, fence int64
		mustDo(t, conn.QueryRow(t.Context(),
			"SELECT id, fence FROM work WHERE kind = 'access-add' AND title LIKE '%' || $1 ORDER BY id DESC LIMIT 1",
			d.name).Scan(&work, &fence))
		var permit int64
		mustDo(t, conn.QueryRow(t.Context(),
			`WITH p AS (INSERT INTO permits (work_id, fence, instance_id, login_user, ends_at) SELECT id, fence, instance_id, 'debian', clock_timestamp() + interval '3 s' FROM work WHERE id = $1 RETURNING id)
			INSERT INTO permit_keys (permit_id, key_id) SELECT p.id, k.id FROM p, keys k WHERE k.name = $2 RETURNING permit_id`, work, second).Scan(&permit))
		began := time.Now()
		d.must(t, "key", "set", second, "-holder", "guard-job")
		if took := time.Since(began); took < 1500*time.Millisecond {
			t.Errorf("a mark was changed under a permit, after %v", took)
		}
	})
}

// exec changes the slot's database as its owner.
func (s *slot) exec(t *testing.T, sql string, args ...any) {
	t.Helper()
	_, err := s.connect(t).Exec(t.Context(), sql, args...)
	mustDo(t, err)
}

// signedBy is the signature of a text by a private file.
func signedBy(t *testing.T, file, text string) string {
	t.Helper()
	signer, err := ssh.ParsePrivateKey([]byte(mustRead(t, file)))
	mustDo(t, err)
	sig, err := keypair.Sign(signer, keypair.ProofNamespace, []byte(text))
	mustDo(t, err)
	return string(sig)
}
