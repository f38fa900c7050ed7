package e2e

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"plumlatch/client"
	"plumlatch/core/wire"
)

// BenchmarkSurveyByAgent has 24 instances surveyed from inside by the steward, over SSH, and by their agents, in turn: what of its CPU the service
// needs for the same answer. Both are asked for by a call of the API each, and write what they saw to the database.
func BenchmarkSurveyByAgent(b *testing.B) {
	const instances = 24 // an operator has so many calls a minute
	check := func(err error) {
		b.Helper()
		if err != nil {
			b.Fatal(err)
		}
	}
	d := newDemo(b.TempDir())
	check(d.start("-seed=false", "-surveys=0", "-follow=-1s"))
	b.Cleanup(func() { _ = d.stop() })
	c, err := client.New(d.url, d.token)
	check(err)
	key := exec.Command(filepath.Join(bin, "plumlatch"), "key", "create", "bench", "-dir", d.dir, "-new-passphrase", "none")
	key.Env = append(os.Environ(), "PLUMLATCH_URL="+d.url, "PLUMLATCH_TOKEN="+d.token, "HOME="+d.dir)
	if out, err := key.CombinedOutput(); err != nil {
		b.Fatalf("%v %s", err, out)
	}
	each := func(do func(name string) error) {
		b.Helper()
		var wg sync.WaitGroup
		slots := make(chan struct{}, 8)
		for n := range instances {
			slots <- struct{}{}
			wg.Go(func() {
				defer func() { <-slots }()
				if err := do(fmt.Sprintf("bench-%d", n)); err != nil {
					b.Error(err)
				}
			})
		}
		wg.Wait()
	}
	each(func(name string) error {
		i, err := c.Launch(context.Background(), wire.Launch{Name: name, Image: "debian-12", Size: "small", Region: "north-pier", Keys: []string{"bench"}, AgentVerbs: []string{"look"}})
		if err == nil {
			_, err = c.Follow(context.Background(), i.Work, 0, nil)
		}
		return err
	})
	measure := func(do func(name string) error) time.Duration {
		pid := d.cmd.Process.Pid
		before := cpuOf(b, pid)
		each(do)
		return cpuOf(b, pid) - before
	}
	steward := func(name string) error {
		s, err := c.Survey(context.Background(), name, wire.SurveyRequest{Inside: true})
		if err == nil && len(s.Keys) < 2 {
			err = fmt.Errorf("%s: %+v", name, s)
		}
		return err
	}
	agent := func(name string) error {
		s, err := c.AgentLook(context.Background(), name)
		if err == nil && len(s.Keys) < 2 {
			err = fmt.Errorf("%s: %+v", name, s)
		}
		return err
	}
	measure(steward) // what is judged and told the first time is told once
	measure(agent)
	var shares []float64
	for b.Loop() {
		by, through := measure(steward), measure(agent)
		shares = append(shares, through.Seconds()/by.Seconds())
		b.ReportMetric(by.Seconds()*1000/instances, "ms-CPU-by-steward")
		b.ReportMetric(through.Seconds()*1000/instances, "ms-CPU-by-agent")
	}
	b.ReportMetric(median(shares), "of-the-steward's-CPU")
	b.ReportMetric(0, "ns/op")
}
