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
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"plumlatch/client"
	"plumlatch/core/wire"
)

// BenchmarkRestore measures, in one run: the service's own share of a restore by
// the disk beyond the cloud's waiting, at the stand-in's default delays; the
// downtime that an outside probe sees in restores by the steward; and how long
// "which ways back are open" takes for 1,000 and 10,000 instances.
func BenchmarkRestore(b *testing.B) {
	check := func(err error) {
		b.Helper()
		if err != nil {
			b.Fatal(err)
		}
	}
	f := newFleet(b, 100)
	f.record(b, 100, "door")
	// These have no cloud to ask: their states are as they are.
	_, err := f.db.Exec(context.Background(), "UPDATE instances SET adopted = true WHERE region = 'door'")
	dir := b.TempDir()
	check(err)
	c, err := client.New(f.d.url, f.d.token)
	check(err)
	plumlatch := f.program(b, dir)
	check(os.WriteFile(filepath.Join(dir, "none"), nil, 0o600))
	var runs atomic.Int64
	restore := func(name, route string) wire.Report {
		b.Helper()
		key := fmt.Sprintf("back-%d", runs.Add(1))
		plumlatch("key", "create", key, "-dir", dir, "-new-passphrase", filepath.Join(dir, "none"))
		var r wire.Report
		check(json.Unmarshal(plumlatch("restore", name, "-route", route, "-new", key, "-dir", dir, "-yes", "-json"),
			&r))
		return r
	}
	var terms struct {
		PaceMS int64 `json:"pace_ms"`
	}
	check(standinCallAt(f.d, "GET", "/v1/terms", "", &terms))
	plumlatch("instance", "launch", "bench-door", "-image", "debian-12", "-size", "small", "-region",
		"north-pier", "-key", "bench")
	b.Run("disk", func(b *testing.B) {
		// Launching and removing the rescue instance, stopping, detaching twice, attaching twice, starting.
		waiting := 8 * time.Duration(terms.PaceMS) * time.Millisecond
		var shares []float64
		for range b.N {
			r := restore("bench-door", "disk")
			var took time.Duration
			var steps []string
			for _, s := range r.Steps {
				if s.Name != "login" && s.BeganAt != nil && s.EndedAt != nil { // that is the engineer's machine
					took += s.EndedAt.Sub(*s.BeganAt)
					steps = append(steps, fmt.Sprintf("%s %.3f", s.Name, s.EndedAt.Sub(*s.BeganAt).Seconds()))
				}
			}
			b.Log(strings.Join(steps, ", "))
			shares = append(shares, (took-waiting).Seconds()/took.Seconds())
			b.ReportMetric(100*median(shares), "%-own-share")
			b.ReportMetric(took.Seconds(), "s")
			b.ReportMetric(r.Down, "s-down")
			b.ReportMetric(0, "ns/op")
		}
	})
	b.Run("steward", func(b *testing.B) {
		for range b.N {
			down, unseen := 0.0, 0.0
			var lock sync.Mutex
			var wait sync.WaitGroup
			room := make(chan struct{}, 10)
			for k := range 100 {
				if k == len(f.servers) {
					wait.Wait() // one restore an instance at a time
				}
				room <- struct{}{}
				wait.Go(func() {
					defer func() { <-room }()
					r := restore(fmt.Sprintf("door-%05d", k%len(f.servers)), "steward")
					lock.Lock()
					defer lock.Unlock()
					down, unseen = down+r.Down, unseen+r.NotSeen
				})
			}
			wait.Wait()
			b.ReportMetric(down, "s-down-in-100-runs")
			b.ReportMetric(unseen, "s-not-seen")
			b.ReportMetric(0, "ns/op")
		}
	})
	for _, fleet := range []struct {
		name  string
		more  int
		least int
	}{{"ready-1000", 1000, 1000}, {"ready-10000", 9000, 10_000}} {
		f.record(b, fleet.more, fleet.name)
		b.Run(fleet.name, func(b *testing.B) {
			for range b.N {
				began := time.Now()
				rows, err := c.RestoreReady(context.Background(), "")
				took := time.Since(began)
				check(err)
				if len(rows) < fleet.least {
					b.Fatalf("%d rows", len(rows))
				}
				b.ReportMetric(took.Seconds()*1000/float64(len(rows)), "ms-each")
				b.ReportMetric(took.Seconds(), "s")
				b.ReportMetric(0, "ns/op")
			}
		})
	}
}

// program runs the client with a home of its own, as an operator of the fleet's service.
func (f *fleet) program(b *testing.B, home string) func(args ...string) []byte {
	return func(args ...string) []byte {
		b.Helper()
		cmd := exec.Command(filepath.Join(bin, "plumlatch"), args...)
		cmd.Env = append(os.Environ(), "PLUMLATCH_URL="+f.d.url, "PLUMLATCH_TOKEN="+f.d.token, "HOME="+home)
		var said bytes.Buffer
		cmd.Stderr = &said
		out, err := cmd.Output()
		if err != nil {
			b.Fatalf("%q: %v %.2000s", args, err, &said)
		}
		return out
	}
}
