package fleet_test

import (
	"fmt"
	"runtime"
	"strings"
	"testing"
	"time"

	"plumlatch/core/keybook"
	"plumlatch/service/kinds/kindtest"
)

// BenchmarkKeybookCompare sets a book of 1,000,000 wanted accesses against a ledger that has them, on 100,000 instances: how long that takes, by
// how many statements, and how much memory there is at most.
func BenchmarkKeybookCompare(b *testing.B) {
	h := kindtest.New(b)
	for n := range 10 {
		h.Key(fmt.Sprintf("key-%d", n))
	}
	h.Exec(`INSERT INTO instances (name, name_fold, alias, cloud, client_token, region, image, size, login_user, phase, state, user_data, created_by, tags)
		SELECT 'i-' || n, 'i-' || n, 'alias-' || n, 'standin', 'token-' || n, 'north-pier', 'debian-12', 'small', 'debian', 'ready', 'running', '', 'x',
		'{"env":"prod"}' FROM generate_series(1, 100000) n`)
	h.Exec("INSERT INTO access (instance_id, key_id, login_user) SELECT i.id, k.id, 'debian' FROM instances i, keys k")
	h.Exec("ANALYZE")
	var whom []string
	for n := range 10 {
		whom = append(whom, fmt.Sprintf("key-%d", n))
	}
	text := "keybook: large\ncomplete: {tag: env=prod, files: [book.yaml]}\naccess:\n  - {whom: [" + strings.Join(whom, ", ") + "], to: {tag: env=prod}}\n"
	most := uint64(0)
	stop, stopped := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(stopped)
		for {
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			most = max(most, m.HeapInuse)
			select {
			case <-stop:
				return
			case <-time.After(50 * time.Millisecond):
			}
		}
	}()
	for b.Loop() {
		began := time.Now()
		d, err := h.W.Fleet.CompareBook(h.Context(), kindtest.By, book(text))
		if err != nil || d.Difference == nil || d.Difference.InScope != 1_000_000 || d.Difference.Counts[keybook.Withdraw] > 0 {
			b.Fatalf("%v %+v", err, d.Report)
		}
		b.ReportMetric(time.Since(began).Seconds(), "s")
	}
	before := h.DB.Statements() // of a store that nothing else uses
	if _, err := h.DB.BookLedger(h.Context(), "large"); err != nil {
		b.Fatal(err)
	}
	b.ReportMetric(float64(h.DB.Statements()-before), "statements")
	close(stop)
	<-stopped
	b.ReportMetric(float64(most>>20), "MiB-at-most")
	b.ReportMetric(0, "ns/op")
}
