package e2e

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"plumlatch/client"
	"plumlatch/core/authkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/rotation"
	"plumlatch/reach"
)

const benchRotated = 500

// BenchmarkRotate rotates 500 instances through the service, in one wave, beside
// a shell loop that appends a line, tries the login and deletes the old line, with
// ssh at "xargs -P 32". The service does more: a backup, two rounds of questions
// to the server, records. An instance counts when its last answer is there.
func BenchmarkRotate(b *testing.B) {
	check := func(err error) {
		b.Helper()
		if err != nil {
			b.Fatal(err)
		}
	}
	f := newFleet(b, benchRotated)
	f.record(b, benchRotated, "rotate")
	dir := b.TempDir()
	// The shell loop has lines of its own in the same files.
	var scratch [2]keypair.Public
	for n := range scratch {
		p, err := keypair.Create(keypair.Ed25519, fmt.Sprintf("scratch-%d", n))
		check(err)
		private, err := p.OpenSSH(nil)
		check(err)
		check(os.WriteFile(filepath.Join(dir, fmt.Sprintf("scratch-%d", n)), private, 0o600))
		scratch[n] = p.Public
	}
	var hosts, known strings.Builder
	for _, s := range f.servers {
		fmt.Fprintln(&hosts, s.Address)
		fmt.Fprintf(&known, "[%s]:2222 %s\n", s.Address, s.hostKey)
		file, err := os.OpenFile(f.d.path("standin", "instances", s.ID, "home/debian/.ssh/authorized_keys"),
			os.O_APPEND|os.O_WRONLY, 0)
		check(err)
		_, err = fmt.Fprintln(file, scratch[0].Line())
		check(err)
		check(file.Close())
	}
	config := fmt.Sprintf("Host *\n  User debian\n  Port 2222\n  IdentitiesOnly yes\n  BatchMode yes\n  "+
		"UserKnownHostsFile %s/known\n  GlobalKnownHostsFile none\n  ControlMaster no\n", dir)
	for name, text := range map[string]string{"hosts": hosts.String(), "known": known.String(), "config": config} {
		check(os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	loop := func(from, to int) time.Duration {
		b.Helper()
		script := fmt.Sprintf(`ssh -F %[1]s/config -i %[1]s/scratch-%[2]d "$1" "echo '%[4]s' >> .ssh/authorized_keys" && ssh -F %[1]s/config -i %[1]s/scratch-%[3]d "$1" true && ssh -F %[1]s/config -i %[1]s/scratch-%[3]d "$1" "sed -i '/scratch-%[2]d/d' .ssh/authorized_keys"`,
			dir, from, to, scratch[to].Line())
		began := time.Now()
		cmd := exec.Command("xargs", "-P", "32", "-I{}", "sh", "-c", script, "sh", "{}")
		cmd.Stdin = strings.NewReader(hosts.String())
		if out, err := cmd.CombinedOutput(); err != nil {
			b.Fatalf("%v %.500s", err, out)
		}
		return time.Since(began)
	}
	// Ours goes to and fro between two recorded keys.
	c, err := client.New(f.d.url, f.d.token)
	check(err)
	plumlatch := func(args ...string) {
		b.Helper()
		cmd := exec.Command(filepath.Join(bin, "plumlatch"), args...)
		cmd.Env = append(os.Environ(), "PLUMLATCH_URL="+f.d.url, "PLUMLATCH_TOKEN="+f.d.token, "HOME="+dir)
		if out, err := cmd.CombinedOutput(); err != nil {
			b.Fatalf("%q: %v %.1000s", args, err, out)
		}
	}
	check(os.WriteFile(filepath.Join(dir, "none"), nil, 0o600))
	for _, k := range []string{"rotated-0", "rotated-1"} {
		plumlatch("key", "create", k, "-dir", dir, "-new-passphrase", filepath.Join(dir, "none"))
	}
	rotate := func(from, to string) time.Duration {
		b.Helper()
		began := time.Now()
		plumlatch("rotate", "many", from, "-new", to, "-dir", dir, "-waves", "500,100%", "-grace",
			"0", "-yes", "-json")
		took := time.Since(began)
		for deadline := time.Now().Add(5 * time.Minute); ; time.Sleep(200 * time.Millisecond) {
			works, err := c.Work(context.Background(), url.Values{"state": {"open"}}, 5)
			check(err)
			if len(works) == 0 {
				break
			}
			if time.Now().After(deadline) {
				b.Fatalf("work is left: %+v", works[0])
			}
		}
		rows, err := c.Access(context.Background(), "", to)
		check(err)
		if len(rows) != benchRotated {
			b.Fatalf("%d of %d rotated", len(rows), benchRotated)
		}
		return took
	}
	rotate("bench", "rotated-0")
	f.settle(b)
	var rates, bounds []float64
	for n := range b.N {
		theirs := loop(n%2, (n+1)%2)
		bounds = append(bounds, theirs.Seconds()/f.doorsAlone(b, scratch[0]).Seconds())
		b.ReportMetric(median(bounds), "times-their-rate-by-SSH-alone")
		statements, connections := f.counted(b)
		ours := rotate(fmt.Sprintf("rotated-%d", n%2), fmt.Sprintf("rotated-%d", (n+1)%2))
		moreStatements, moreConnections := f.counted(b)
		f.settle(b)
		rates = append(rates, theirs.Seconds()/ours.Seconds())
		b.ReportMetric(median(rates), "times-their-rate")
		b.ReportMetric(benchRotated/ours.Seconds(), "rotations/s")
		// Nobody else's recorded key opens them: at most 4 connections each.
		b.ReportMetric((moreConnections-connections)/benchRotated, "connections-each")
		b.ReportMetric((moreStatements-statements)/benchRotated, "statements-each")
		b.ReportMetric(0, "ns/op")
	}
}

// doorsAlone does at each door what a rotation does there, sixteen at a time, and nothing else: no
// record, no guard, no plan. No service that takes these steps is faster on the same machine.
func (f *fleet) doorsAlone(b *testing.B, line keypair.Public) time.Duration {
	b.Helper()
	signer, err := f.steward.Signer()
	if err != nil {
		b.Fatal(err)
	}
	policy := reach.Policy{AllowLoopback: true}
	const name = ".ssh/authorized_keys"
	never := func(time.Duration) bool { return false }
	rotated := func(s server) error {
		host, err := keypair.ReadPublic([]byte(s.hostKey))
		if err != nil {
			return err
		}
		t := reach.Target{Address: s.Address, Port: 2222, User: "debian", HostKeys: [][]byte{host.Blob}}
		files, way, err := reach.SFTP(b.Context(), policy, t, signer)
		if err != nil {
			return err
		}
		defer way.Close()
		text := line.Line() + " alone"
		if _, err := reach.ReadKeys(files, name); err != nil {
			return err
		}
		if _, err := reach.AddLine(files, name, text, time.Now()); err != nil {
			return err
		}
		asked := [][]byte{line.Blob, f.steward.Public.Blob}
		reach.ProbeAll(b.Context(), policy, t, asked, time.Now, never)
		if _, err := reach.Edit(b.Context(), files, name, rotation.Own(line.Blob, text), reach.EditOptions{Now: time.Now(),
			Later: func(func() error) {}}, func(doc *authkeys.Document) error {
			doc.RemoveAppended(text)
			return nil
		}); err != nil {
			return err
		}
		reach.ProbeAll(b.Context(), policy, t, asked, time.Now, never)
		return nil
	}
	began := time.Now()
	var wg sync.WaitGroup
	slots := make(chan struct{}, 16)
	for _, s := range f.servers[:benchRotated] {
		slots <- struct{}{}
		wg.Go(func() {
			defer func() { <-slots }()
			if err := rotated(s); err != nil {
				b.Error(err)
			}
		})
	}
	wg.Wait()
	return time.Since(began)
}

// counted is what the service has sent to the database, and how often it has
// connected to an instance.
func (f *fleet) counted(b *testing.B) (statements, connections float64) {
	b.Helper()
	req, err := http.NewRequest("GET", f.d.url+"/api/v1/metrics", nil)
	if err != nil {
		b.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+f.d.token)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		b.Fatal(err)
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	if err != nil {
		b.Fatal(err)
	}
	for line := range strings.Lines(string(body)) {
		name, value, _ := strings.Cut(strings.TrimSpace(line), " ")
		n, _ := strconv.ParseFloat(value, 64)
		switch name {
		case "plumlatch_database_statements_total":
			statements = n
		case "plumlatch_connections_total":
			connections = n
		}
	}
	return statements, connections
}
