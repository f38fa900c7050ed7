package e2e

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http/httptest"
	"net/netip"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"plumlatch/client"
	"plumlatch/core/access"
	"plumlatch/core/wire"
	"plumlatch/service/cloud/drivertest"
	"plumlatch/service/cloud/standin"
	"plumlatch/service/store"
	cloud "plumlatch/standin"
)

// TestStandinDriver runs the suite that every driver must pass.
func TestStandinDriver(t *testing.T) {
	t.Parallel()
	// A cloud of its own: the harness has the shared one fail.
	block := netip.MustParsePrefix(newDemo(t.TempDir()).net)
	c, err := cloud.Open(cloud.Options{Folder: t.TempDir(), Network: block, Pace: 100 * time.Millisecond})
	mustDo(t, err)
	server := httptest.NewServer(c.Handler("suite"))
	t.Cleanup(func() { server.Close(); c.Close() })
	d := standin.New(server.URL, "suite")
	drivertest.Run(t, d, drivertest.Options{Region: "north-pier", Image: "debian-12", Size: "small",
		OtherRegion: "skerry-island", Name: "suite-", BadName: "Suite_1", Patience: 20 * time.Second})
}

// TestTwoReplicas has two services share the work of one database.
func TestTwoReplicas(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 90)
	s.options = []string{"-lease", "20s", "-state-limit", "60s"} // what is slow is no claim that was lost
	var clients []*client.Client
	for range 2 {
		clients = append(clients, s.serve(t))
	}
	const count = 24
	ctx := context.Background()
	works := make([]wire.Work, count)
	var wg sync.WaitGroup
	for n := range count {
		wg.Go(func() {
			// Asked of one replica, and followed at the other.
			name := fmt.Sprintf("pair-board-%d", n)
			i, err := clients[n%2].Launch(ctx,
				wire.Launch{Name: name, Region: "south-pier", Image: "debian-12", Size: "small", Keys: []string{s.key}})
			if err != nil {
				t.Error(err)
				return
			}
			if works[n], err = clients[1-n%2].Follow(ctx, i.Work, 0, nil); err != nil || works[n].State != "done" {
				t.Errorf("%s: %v %+v", name, err, works[n])
			}
		})
	}
	wg.Wait()
	made := map[string]int{}
	var list []cloudInstance
	if err := standinCall("GET", "/v1/instances", "", &list); err != nil {
		t.Fatal(err)
	}
	for _, i := range list {
		made[i.Name]++
	}
	for n, w := range works {
		if name := fmt.Sprintf("pair-board-%d", n); made[name] != 1 {
			t.Errorf("%s was made %d times", name, made[name])
		}
		for _, st := range w.Steps {
			if passed := (st.Name == "address" || st.Name == "agent") && st.State == wire.StepPassedOver; !passed && (st.State != "done" || st.Tries != 1) {
				t.Errorf("work %d, step %s: %s, begun %d times", w.ID, st.Name, st.State, st.Tries)
			}
		}
	}
	conn, err := pgx.Connect(ctx, s.database)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	var replicas, claims int
	if err := conn.QueryRow(ctx, "SELECT count(DISTINCT replica), sum(fence) FROM work").Scan(&replicas,
		&claims); err != nil {
		t.Fatal(err)
	}
	if replicas != 2 || claims != count {
		t.Errorf("%d replicas at work, %d claims on %d pieces", replicas, claims, count)
	}
	// One instance, many askers: one piece of changing work at a time.
	won := 0
	var mu sync.Mutex
	for n := range 8 {
		wg.Go(func() {
			_, err := clients[n%2].Change(ctx, "pair-board-0", "stop")
			if p, ok := errors.AsType[*client.Problem](err); err != nil &&
				(!ok || !p.Of("in-progress") && !p.Of("conflict")) {
				t.Error(err)
			}
			if err == nil {
				mu.Lock()
				won++
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	if won != 1 {
		t.Errorf("%d of 8 stopped it", won)
	}
}

// TestFence: whoever lost a claim writes nothing.
func TestFence(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 91)
	ctx := t.Context()
	db, err := store.Open(ctx, s.database, "", 4, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	n := store.NewInstance{Instance: store.Instance{Name: "fence-board", Alias: "plumlatch-fence", Cloud: "none",
		Phase: store.Launching, LoginUser: "debian", Port: 22, State: "pending"},
		Work: store.NewWork{Kind: "fenced", Title: "t", Token: "fence", Changing: true,
			Steps: []store.WorkStep{{Name: "a", Title: "A"}, {Name: "b", Title: "B"}}, Action: "x",
			Target: "instance fence-board"}}
	i, err := db.AddInstance(ctx, store.Service, store.Once{}, n)
	if err != nil {
		t.Fatal(err)
	}
	kinds := []string{"fenced"}
	first, err := db.ClaimWork(ctx, "one", kinds, 300*time.Millisecond)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.ClaimWork(ctx, "two", kinds, time.Second); !errors.Is(err, store.ErrNotFound) {
		t.Fatalf("claimed before the claim had run out: %v", err)
	}
	old := store.Claim{Work: first.ID, Fence: first.Fence}
	oldCtx := store.WithClaim(ctx, old)
	if err := db.Say(oldCtx, old, "a", "", "while it holds"); err != nil {
		t.Fatal(err)
	}
	time.Sleep(350 * time.Millisecond)
	second, err := db.ClaimWork(ctx, "two", kinds, time.Minute)
	if err != nil || second.ID != first.ID || second.Fence <= first.Fence {
		t.Fatalf("%+v %v", second, err)
	}
	before, err := db.WorkByID(ctx, first.ID)
	if err != nil {
		t.Fatal(err)
	}
	for name, write := range map[string]func() error{
		"renew": func() error { _, err := db.RenewClaim(ctx, old, time.Minute); return err },
		"step": func() error {
			_, err := db.MoveStep(oldCtx, old, store.StepMove{Step: "a", StepState: "done", At: "b"})
			return err
		},
		"say":  func() error { return db.Say(oldCtx, old, "a", "", "late") },
		"wait": func() error { return db.Wait(oldCtx, old, "a", "", "late", time.Second, time.Second) },
		"data": func() error { return db.SetData(oldCtx, old, map[string]int{"late": 1}) },
		"end":  func() error { return db.EndWork(oldCtx, first, store.WorkEnd{State: store.Done, Phase: store.Ready}) },
		"note": func() error { return db.Note(oldCtx, i.ID, "late", "running", "192.0.2.1", 22, false, "late") },
		"admit": func() error {
			return db.Admit(oldCtx, store.Admission{InstanceID: i.ID, WorkID: first.ID, GroupID: "late",
				RuleID: "late", Range: "192.0.2.0/24"})
		},
		"end admission": func() error { return db.EndAdmission(oldCtx, "late", "late", "late") },
		"readmitted":    func() error { return db.Readmitted(oldCtx, "late", "late", "late") },
		"followed": func() error {
			_,
				err := db.Followed(oldCtx, store.Service, i, "stopped", "", 22, false)
			return err
		},
		"trouble": func() error { return db.SetTrouble(oldCtx, i.ID, "", "late") },
		"observe": func() error { return db.Observe(oldCtx, 1, access.Placed, true, "late") },
		"probed": func() error {
			return db.Probed(oldCtx,
				store.Asked{AccessID: 1, Answer: "accepted", From: "late"})
		},
		"first boot": func() error { return db.FirstBootRead(oldCtx, i, nil, "late") },
		"survey":     func() error { return db.KeepSurvey(oldCtx, i, store.Kept{}) },
		"access":     func() error { _, err := db.AddAccess(oldCtx, i.ID, 1, "debian"); return err },
	} {
		if err := write(); !errors.Is(err, store.ErrLost) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := db.ReleaseClaim(ctx, old); err != nil {
		t.Error(err)
	}
	if after, err := db.WorkByID(ctx, first.ID); err != nil || after != before {
		t.Errorf("something was written:\n%+v\n%+v %v", before, after, err)
	}
	// The holder writes on, and a wait holds no instance.
	now := store.Claim{Work: second.ID, Fence: second.Fence}
	if err := db.Wait(store.WithClaim(ctx, now), now, "a", "", "a friend", time.Hour, time.Hour); err != nil {
		t.Fatal(err)
	}
	other := n.Work
	other.Token = "other"
	if err := db.BeginChange(ctx, store.Service, store.Once{}, i, store.Stopping, other); !errors.Is(err,
		store.ErrInProgress) {
		t.Errorf("the phase still says that it is launching: %v", err)
	}
	if err := db.EndWork(ctx, second, store.WorkEnd{State: store.Waiting, Phase: store.Ready}); err != nil {
		t.Fatal(err)
	}
	if err := db.BeginChange(ctx, store.Service, store.Once{}, i, store.Stopping, other); err != nil {
		t.Errorf("work that waits holds the instance: %v", err)
	}
	// Woken, it must wait until the other is done with the instance.
	third, err := db.ClaimWork(ctx, "three", kinds, time.Minute)
	if err != nil || third.Token != "other" {
		t.Fatalf("%+v %v", third, err)
	}
	if err := db.Tell(ctx, first.ID, map[string]bool{"word": true}, ""); err != nil {
		t.Fatal(err)
	}
	if _, err := db.ClaimWork(ctx, "four", kinds, time.Minute); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("two pieces of changing work on one instance: %v", err)
	}
	// What failed is not taken up again while another changes the instance.
	n.Name, n.Alias, n.Work.Token = "fence-board-2", "plumlatch-fence-2", "fence-2"
	if i, err = db.AddInstance(ctx, store.Service, store.Once{}, n); err != nil {
		t.Fatal(err)
	}
	failed, err := db.ClaimWork(ctx, "five", kinds, time.Minute)
	if err != nil || failed.InstanceID != i.ID {
		t.Fatalf("%+v %v", failed, err)
	}
	if err := db.EndWork(ctx, failed, store.WorkEnd{State: store.WentBack, Phase: store.Failed}); err != nil {
		t.Fatal(err)
	}
	other.Token = "other-2"
	if err := db.BeginChange(ctx, store.Service, store.Once{}, i, store.Removing, other); err != nil {
		t.Fatal(err)
	}
	if err := db.RetryWork(ctx, store.Service, failed, n.Work.Steps, store.Launching); !errors.Is(err,
		store.ErrInProgress) {
		t.Errorf("two pieces of changing work: %v", err)
	}
}

// TestStoppedInATransaction stops a service while it holds a row lock, in the transaction with
// which a piece of work ends: another one must get at the work all the same.
func TestStoppedInATransaction(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 92)
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, s.database)
	mustDo(t, err)
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, `CREATE TABLE slow (yes boolean); INSERT INTO slow VALUES (true);
		CREATE FUNCTION slow() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF (SELECT yes FROM slow) THEN PERFORM pg_sleep(1.5); END IF; RETURN NEW; END $$;
		CREATE TRIGGER slow AFTER INSERT ON journal FOR EACH ROW WHEN (NEW.of IS NOT NULL) EXECUTE FUNCTION slow()`)
	mustDo(t, err)
	first, err := s.start("", "")
	mustDo(t, err)
	defer first.end()
	c, err := client.New(first.url, s.token)
	mustDo(t, err)
	i, err := c.Launch(ctx, wire.Launch{Name: "stopped-board", Region: "north-pier", Image: "debian-12",
		Size: "small", Keys: []string{s.key}})
	mustDo(t, err)
	waitFor(t, "a transaction of the first one's", func() bool {
		var n int
		err := conn.QueryRow(ctx, "SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND "+
			"wait_event = 'PgSleep'").Scan(&n)
		return err == nil && n > 0
	})
	mustDo(t, first.cmd.Process.Signal(syscall.SIGSTOP))
	_, err = conn.Exec(ctx, "UPDATE slow SET yes = false")
	mustDo(t, err)
	second := s.serve(t)
	done := make(chan wire.Work, 1)
	go func() {
		w, _ := second.Follow(ctx, i.Work, 0, nil)
		done <- w
	}()
	select {
	case w := <-done:
		if w.State != "done" {
			t.Errorf("%+v", w)
		}
	case <-time.After(2 * time.Minute):
		t.Fatal("nobody took the work over: its row is still locked by the one that was stopped")
	}
}

// TestWordsWhileAwake: what comes while a step writes its wait down is heard at
// the end of that, and once.
func TestWordsWhileAwake(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 89)
	ctx := t.Context()
	db, err := store.Open(ctx, s.database, "", 4, slog.New(slog.DiscardHandler))
	mustDo(t, err)
	defer db.Close()
	k, err := db.KeyByName(ctx, s.key)
	mustDo(t, err)
	n := store.NewInstance{Instance: store.Instance{Name: "awake-board", Alias: "plumlatch-awake", Cloud: "none",
		Phase: store.Launching, LoginUser: "debian", Port: 22, State: "pending"},
		Work: store.NewWork{Kind: "restore-awake", Title: "t", Token: "awake", NewKeyID: k.ID,
			Steps: []store.WorkStep{{Name: "a", Title: "A"}}, Action: "x", Target: "instance awake-board"}}
	_, err = db.AddInstance(ctx, store.Service, store.Once{}, n)
	mustDo(t, err)
	claim := func() (store.Work, error) { return db.ClaimWork(ctx, "one", []string{"restore-awake"}, time.Minute) }
	w, err := claim()
	mustDo(t, err)
	for _, c := range []struct {
		name string
		word func() error
	}{
		{"told", func() error { return db.Tell(ctx, w.ID, map[string]bool{"word": true}, "") }},
		{"a word", func() error { return db.GiveWord(ctx, store.Service, w, "second", "") }},
		{"a key shown", func() error { return db.KeyShown(ctx, store.Service, k) }},
		{"cancelled", func() error { return db.CancelWork(ctx, store.Service, w) }},
	} {
		mustDo(t, c.word())
		held := store.Claim{Work: w.ID, Fence: w.Fence}
		mustDo(t, db.Wait(store.WithClaim(ctx, held), held, "a", "", "a friend", time.Hour, time.Hour))
		if w, err = claim(); err != nil {
			t.Fatalf("%s, while it was awake: %v", c.name, err)
		}
		held = store.Claim{Work: w.ID, Fence: w.Fence}
		mustDo(t, db.Wait(store.WithClaim(ctx, held), held, "a", "", "a friend", time.Hour, time.Hour))
		if _, err := claim(); !errors.Is(err, store.ErrNotFound) {
			t.Fatalf("%s was heard twice: %v", c.name, err)
		}
		if c.name == "cancelled" {
			break
		}
		mustDo(t, db.Tell(ctx, w.ID, map[string]bool{}, "")) // awake again
		if w, err = claim(); err != nil {
			t.Fatal(err)
		}
	}
}
