package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"plumlatch/core/wire"
)

// BenchmarkCopy measures, in one run: what share of a copy's time is the service's own, beyond what the same calls to the cloud and
// the same waiting for it take; and the longest downtime that the outside probe saw of the move in 50 runs, in probe intervals.
func BenchmarkCopy(b *testing.B) {
	const atOnce, runs, interval = 5, 50, 0.2
	check := func(err error) {
		b.Helper()
		if err != nil {
			b.Fatal(err)
		}
	}
	f := newFleet(b, 1)
	dir := b.TempDir()
	check(os.WriteFile(filepath.Join(dir, "none"), nil, 0o600))
	plumlatch := f.program(b, dir)
	call := func(method, path, body string, into any) {
		b.Helper()
		check(standinCallAt(f.d, method, path, body, into))
	}
	until := func(path, state string) {
		b.Helper()
		for {
			var at struct{ State string }
			if call("GET", path, "", &at); at.State == state {
				return
			}
			time.Sleep(10 * time.Millisecond)
		}
	}
	ids := make([]string, atOnce)
	for n := range atOnce {
		name := fmt.Sprintf("bench-copy-%d", n)
		plumlatch("static-address", "reserve", name, "-region", "south-pier")
		plumlatch("instance", "launch", name, "-image", "harrow-web-2", "-size", "small", "-region", "south-pier", "-key", "bench", "-static-address", name)
		plumlatch("instance", "check", "add", name, "http://:7080/health")
		plumlatch("key", "create", name+"-new", "-dir", dir, "-new-passphrase", filepath.Join(dir, "none"))
		var i wire.Instance
		check(json.Unmarshal(plumlatch("instance", "show", name, "-json"), &i))
		ids[n] = i.CloudID
	}
	copies := func(n int) wire.Report {
		name := fmt.Sprintf("bench-copy-%d", n)
		var r wire.Report
		check(json.Unmarshal(plumlatch("restore", "copy", name, "-new", name+"-new", "-dir", dir, "-yes", "-json"), &r))
		var kept wire.List[wire.Work]
		check(json.Unmarshal(plumlatch("work", "list", "-instance", name, "-kind", "restore-kept", "-json"), &kept))
		plumlatch("work", "cancel", fmt.Sprint(kept.Items[0].ID), "-yes")
		return r
	}
	b.Run("own-share", func(b *testing.B) {
		var ours, bare time.Duration
		for range b.N {
			token := fmt.Sprint(time.Now().UnixNano())
			began := time.Now()
			var image, in struct{ ID string }
			call("POST", "/v1/own-images", fmt.Sprintf(`{"client_token":"i%s","instance":%q,"name":"bare"}`, token, ids[0]), &image)
			until("/v1/own-images/"+image.ID, "ready")
			call("POST", "/v1/instances", fmt.Sprintf(`{"client_token":"l%s","name":"bare","region":"south-pier","zone":"south-pier-a","image":%q,"size":"small"}`, token,
				image.ID), &in)
			until("/v1/instances/"+in.ID, "running")
			call("POST", "/v1/instances/"+in.ID+"/stop", fmt.Sprintf(`{"client_token":"s%s"}`, token), nil)
			until("/v1/instances/"+in.ID, "stopped")
			bare += time.Since(began)
			call("DELETE", "/v1/instances/"+in.ID+"?client_token=d"+token, "", nil)
			call("DELETE", "/v1/own-images/"+image.ID, "", nil)
			for _, s := range copies(0).Steps {
				if s.Name != "login" && s.BeganAt != nil && s.EndedAt != nil { // that is the engineer's machine
					ours += s.EndedAt.Sub(*s.BeganAt)
				}
			}
		}
		b.ReportMetric(100*(ours-bare).Seconds()/ours.Seconds(), "%-own-share")
		b.ReportMetric(ours.Seconds()/float64(b.N), "s")
		b.ReportMetric(0, "ns/op")
	})
	b.Run("downtime", func(b *testing.B) {
		longest, unseen, over := 0.0, 0.0, 0
		var lock sync.Mutex
		var wait sync.WaitGroup
		for n := range atOnce {
			wait.Go(func() {
				for range runs / atOnce {
					r := copies(n)
					lock.Lock()
					longest, unseen = max(longest, r.Down), unseen+r.NotSeen
					if r.Down > 2*interval {
						over++
					}
					lock.Unlock()
				}
			})
		}
		wait.Wait()
		b.ReportMetric(longest/interval, "probe-intervals-at-most")
		b.ReportMetric(float64(over), "of-50-over-two")
		b.ReportMetric(unseen, "s-not-seen")
		b.ReportMetric(0, "ns/op")
	})
}
