package e2e

import (
	"bufio"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"golang.org/x/crypto/ssh"

	"plumlatch/client"
	"plumlatch/core/keypair"
	"plumlatch/core/wire"
	"plumlatch/stream"
)

// BenchmarkStreamSCP copies 1 GiB by scp to a real sshd, direct and through the service, in turn.
func BenchmarkStreamSCP(b *testing.B) {
	a, _, name, run := streamed(b, shared.url)
	file := filepath.Join(b.TempDir(), "whole")
	whole, err := os.Create(file)
	mustDo(b, err)
	_, err = io.CopyN(whole, rand.Reader, 1<<30)
	mustDo(b, err)
	mustDo(b, whole.Close())
	copied := func(program string, args ...string) time.Duration {
		b.Helper()
		began := time.Now()
		ran(b, run(program, args...), nil)
		return time.Since(began)
	}
	var rates []float64
	for b.Loop() {
		direct := copied("scp", "-o", "ProxyCommand=none", file, name+":direct")
		through := copied("scp", file, name+":through")
		mustDo(b, os.Remove(filepath.Join(a.home, "direct")))
		mustDo(b, os.Remove(filepath.Join(a.home, "through")))
		rates = append(rates, direct.Seconds()/through.Seconds())
		b.ReportMetric(1024/direct.Seconds(), "MiB/s-direct")
		b.ReportMetric(1024/through.Seconds(), "MiB/s-through")
	}
	b.ReportMetric(median(rates), "of-the-direct-rate")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkStreamKeys types single keys into a program that gives them back, direct and through the service, in turn.
func BenchmarkStreamKeys(b *testing.B) {
	_, _, name, run := streamed(b, shared.url)
	typist := func(args ...string) func() time.Duration {
		b.Helper()
		cmd := run("ssh", append(args, name, "exec cat")...)
		in, err := cmd.StdinPipe()
		mustDo(b, err)
		out, err := cmd.StdoutPipe()
		mustDo(b, err)
		mustDo(b, cmd.Start())
		b.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
		back := bufio.NewReader(out)
		return func() time.Duration {
			began := time.Now()
			_, err := in.Write([]byte("k"))
			mustDo(b, err)
			_, err = back.ReadByte()
			mustDo(b, err)
			return time.Since(began)
		}
	}
	direct, through := typist("-o", "ProxyCommand=none"), typist()
	for range 20 {
		direct()
		through()
	}
	for b.Loop() {
		var by, over []float64
		for range 400 {
			by, over = append(by, direct().Seconds()*1000), append(over, through().Seconds()*1000)
			time.Sleep(2 * time.Millisecond) // nobody types faster
		}
		b.ReportMetric(median(by), "ms-direct")
		b.ReportMetric(median(over)-median(by), "ms-more-through")
	}
	b.ReportMetric(0, "ns/op")
}

// BenchmarkStreamsIdle has 500 sessions that nobody types into: what memory of the service each holds, after its garbage was collected.
func BenchmarkStreamsIdle(b *testing.B) {
	const streams, warm = 500, 20
	d := newDemo(b.TempDir())
	mustDo(b, d.start("-seed=false", "-surveys=0", "-follow=-1s"))
	b.Cleanup(func() { _ = d.stop() })
	policy := filepath.Join(d.dir, "policy.yaml")
	mustDo(b, os.WriteFile(policy, []byte("stream:\n  who: [{operators: [harbour-lead]}]\n  each: 1000\n"), 0o600))
	plumlatch := func(args ...string) {
		b.Helper()
		cmd := exec.Command(filepath.Join(bin, "plumlatch"), args...)
		cmd.Env = append(os.Environ(), "PLUMLATCH_URL="+d.url, "PLUMLATCH_TOKEN="+d.token, "HOME="+d.dir)
		if out, err := cmd.CombinedOutput(); err != nil {
			b.Fatalf("%q: %v %.1000s", args, err, out)
		}
	}
	plumlatch("policy", "set", policy)
	pair, err := keypair.Create(keypair.Ed25519, "bench")
	mustDo(b, err)
	mustDo(b, os.WriteFile(filepath.Join(d.dir, "bench.pub"), []byte(pair.Public.Line()+"\n"), 0o600))
	plumlatch("key", "import", "bench", filepath.Join(d.dir, "bench.pub"))
	c, err := client.New(d.url, d.token)
	mustDo(b, err)
	i, err := c.Launch(context.Background(), wire.Launch{Name: "bench-1", Image: "debian-12", Size: "small", Region: "north-pier", Keys: []string{"bench"}})
	mustDo(b, err)
	_, err = c.Follow(context.Background(), i.Work, 0, nil)
	mustDo(b, err)
	signer, err := pair.Signer()
	mustDo(b, err)
	held := func() int {
		b.Helper()
		// What the runtime has collected since now is garbage no more: it does so every two minutes at the latest (runtime, forcegcperiod).
		for at := d.metric(b, "go_gc_duration_seconds_count"); d.metric(b, "go_gc_duration_seconds_count") < at+2; {
			time.Sleep(time.Second)
		}
		return d.metric(b, "go_memstats_heap_inuse_bytes") + d.metric(b, "go_memstats_stack_inuse_bytes")
	}
	open := func() *ssh.Client {
		var begun wire.StreamBegun
		for {
			if begun, err = c.OpenStream(context.Background(), "bench-1", wire.NewStream{}); err == nil {
				break
			}
			if p, ok := errors.AsType[*client.Problem](err); !ok || p.Status != http.StatusTooManyRequests {
				b.Fatal(err)
			}
			time.Sleep(5 * time.Second) // an operator has so many calls a minute
		}
		conn := stream.New()
		go func() { _ = c.Carry(context.Background(), begun, conn) }()
		sc, channels, requests, err := ssh.NewClientConn(conn, "stream", &ssh.ClientConfig{User: "debian", Auth: []ssh.AuthMethod{ssh.PublicKeys(signer)},
			HostKeyCallback: ssh.InsecureIgnoreHostKey()}) //nolint:gosec // the service has met it
		if err != nil {
			b.Fatal(err)
		}
		return ssh.NewClient(sc, channels, requests)
	}
	for b.Loop() {
		var all []*ssh.Client
		for range warm {
			all = append(all, open())
		}
		before := held()
		for range streams {
			all = append(all, open())
		}
		b.ReportMetric(float64(held()-before)/streams/1024, "KiB-each")
		var ends sync.WaitGroup
		for _, s := range all {
			ends.Go(func() { s.Close() })
		}
		ends.Wait()
	}
	b.ReportMetric(0, "ns/op")
}

// BenchmarkPageFlood has a terminal in the page show 10 MB: the longest task of the page meanwhile, as the browser tells it.
func BenchmarkPageFlood(b *testing.B) {
	a, _, name, _ := streamed(b, shared.url)
	page := inBrowser(b, shared.url)
	page.shellOn(b, name, a.identity)
	page.typing(b, "PS1='at the quay> '; yes 0123456789012345678901234567890123456789 | head -c 10000000 >flood; clear\r")
	page.shows(b, "at the quay>")
	ask := func(js string) float64 {
		b.Helper()
		n, err := chromedp.Run(page.ctx, chromedp.Evaluate[float64](js))
		mustDo(b, err)
		return n
	}
	rounds := 0
	for b.Loop() {
		ask(`(() => { window.longest = 0; window.watching?.disconnect();
			window.watching = new PerformanceObserver(l => { for (const e of l.getEntries()) window.longest = Math.max(window.longest, e.duration) });
			window.watching.observe({entryTypes: ["longtask"]}); return 0 })()`)
		began := time.Now()
		rounds++
		page.typing(b, fmt.Sprintf("clear; cat flood; echo; echo al''l-of-it-%d\r", rounds))
		page.shows(b, fmt.Sprintf("\nall-of-it-%d", rounds))
		b.ReportMetric(time.Since(began).Seconds(), "s-to-show-10MB")
		time.Sleep(200 * time.Millisecond) // the observer tells of a task once it is over
		b.ReportMetric(ask("window.longest"), "ms-longest-task")
	}
	b.ReportMetric(0, "ns/op")
}
