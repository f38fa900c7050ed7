package e2e

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"plumlatch/client"
	"plumlatch/core/keypair"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/atrest"
	"plumlatch/service/store"
)

// fleet is many instances of the stand-in that the ledger knows, made without
// the work of launching each.
type fleet struct {
	d        *demo
	db       *pgx.Conn
	identity string // a person's private file that opens all
	servers  []server
	steward  *keypair.Pair
	sealed   []byte
}

type server struct{ ID, Address, hostKey string }

func newFleet(b *testing.B, servers int) *fleet {
	b.Helper()
	check := func(err error) {
		b.Helper()
		if err != nil {
			b.Fatal(err)
		}
	}
	f := &fleet{d: newDemo(b.TempDir())}
	check(f.d.start("-seed=false", "-surveys=0", "-follow=-1s"))
	b.Cleanup(func() { _ = f.d.stop() })
	url, err := os.ReadFile(f.d.path("owner-url"))
	check(err)
	f.db, err = pgx.Connect(context.Background(), strings.TrimSpace(string(url)))
	check(err)
	person, err := keypair.Create(keypair.Ed25519, "person")
	check(err)
	private, err := person.OpenSSH(nil)
	check(err)
	f.identity = filepath.Join(b.TempDir(), "person")
	check(os.WriteFile(f.identity, private, 0o600))
	steward, err := keypair.Create(keypair.Ed25519, "steward")
	check(err)
	f.steward = steward
	if private, err = steward.OpenSSH(nil); err != nil {
		b.Fatal(err)
	}
	cipher, err := atrest.Load(f.d.path("service", "identity.txt"))
	check(err)
	records, err := store.Open(context.Background(), strings.TrimSpace(string(url)), "", 2,
		slog.New(slog.DiscardHandler))
	check(err)
	check(cipher.Keep(context.Background(), records))
	f.sealed, err = cipher.Encrypt(context.Background(), private)
	check(errors.Join(err, records.Close()))
	check(err)
	data := "#cloud-config\nssh_authorized_keys:\n  - " + person.Public.Line() +
		"\n  - restrict,command=\"internal-sftp\" " + steward.Public.Line() + "\n"
	var wg sync.WaitGroup
	slots := make(chan struct{}, 8)
	for n := range servers {
		slots <- struct{}{}
		wg.Go(func() {
			defer func() { <-slots }()
			body, _ := json.Marshal(map[string]string{"client_token": fmt.Sprint("bench", n),
				"name": fmt.Sprint("bench-", n), "region": "north-pier", "image": "debian-12", "size": "small",
				"user_data": data})
			if err := standinCallAt(f.d, "POST", "/v1/instances", string(body), &struct{}{}); err != nil {
				b.Error(err)
			}
		})
	}
	wg.Wait()
	for deadline := time.Now().Add(3 * time.Minute); len(f.servers) < servers; time.Sleep(time.Second) {
		if time.Now().After(deadline) {
			b.Fatal("the instances do not come up")
		}
		f.servers = f.servers[:0]
		var all []struct{ ID, State, Address string }
		check(standinCallAt(f.d, "GET", "/v1/instances?region=north-pier", "", &all))
		for _, i := range all {
			if key, err := os.ReadFile(f.d.path("standin", "instances", i.ID,
				"etc/ssh/ssh_host_ed25519_key.pub")); i.State == "running" && err == nil {
				f.servers = append(f.servers,
					server{i.ID, i.Address, strings.TrimSpace(string(key))})
			}
		}
	}
	_, err = f.db.Exec(context.Background(),
		"INSERT INTO keys (name, name_fold, blob, kind, fingerprint, comment, origin, created_by) VALUES ('bench', "+
			"'bench', $1, 'ed25519', $2, '', 'imported', 'x')", person.Public.Blob, person.Public.Fingerprint())
	check(err)
	return f
}

// record puts n instances into the ledger, over the servers in turn, in a region of their own.
func (f *fleet) record(b *testing.B, n int, region string) {
	b.Helper()
	ctx := context.Background()
	batch := &pgx.Batch{}
	for i := range n {
		s := f.servers[i%len(f.servers)]
		p, err := keypair.ReadPublic([]byte(s.hostKey))
		if err != nil {
			b.Fatal(err)
		}
		name := fmt.Sprintf("%s-%05d", region, i)
		batch.Queue(`WITH i AS (INSERT INTO instances (name, name_fold, alias, cloud, cloud_id, client_token, region, image, size, login_user, phase, user_data, created_by, state, address, port, changed_at)
			VALUES ($1, $1, $1, 'standin', $2, $1, $3, 'x', 'x', 'debian', 'ready', '', 'x', 'running', $4, 2222, '2020-01-01') RETURNING id),
			h AS (INSERT INTO host_keys (instance_id, blob, type, fingerprint, source) SELECT id, $5, 'ssh-ed25519', $1, 'x' FROM i),
			s AS (INSERT INTO steward_keys (instance_id, blob, sealed) SELECT id, $6, $7 FROM i),
			t AS (INSERT INTO access (instance_id, steward, login_user) SELECT id, true, 'debian' FROM i)
			INSERT INTO access (instance_id, key_id, login_user) SELECT i.id, k.id, 'debian' FROM i, keys k WHERE k.name = 'bench'`,
			name, s.ID, region, s.Address, p.Blob, f.steward.Public.Blob, f.sealed)
	}
	if err := f.db.SendBatch(ctx, batch).Close(); err != nil {
		b.Fatal(err)
	}
	f.settle(b)
}

// settle waits until nothing waits to be judged: that is not the survey's to pay.
func (f *fleet) settle(b *testing.B) {
	b.Helper()
	for deadline := time.Now().Add(2 * time.Minute); ; time.Sleep(100 * time.Millisecond) {
		var n int
		if err := f.db.QueryRow(context.Background(), "SELECT count(*) FROM to_judge").Scan(&n); err != nil ||
			time.Now().After(deadline) {
			b.Fatal(n, err)
		}
		if n == 0 {
			return
		}
	}
}

// cpuOf is the CPU time that a process has used.
func cpuOf(b testing.TB, pid int) time.Duration {
	b.Helper()
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		b.Fatal(err)
	}
	f := strings.Fields(string(data[bytes.LastIndexByte(data, ')')+2:]))
	user, _ := strconv.Atoi(f[11])
	system, _ := strconv.Atoi(f[12])
	return time.Duration(user+system) * 10 * time.Millisecond
}

// survey surveys a region through the service, and returns how long it took, and its CPU.
func (f *fleet) survey(b *testing.B, region string, n int) (took, cpu time.Duration) {
	b.Helper()
	c, err := client.New(f.d.url, f.d.token)
	if err != nil {
		b.Fatal(err)
	}
	pid := f.d.cmd.Process.Pid
	before, began := cpuOf(b, pid), time.Now()
	w, err := c.SurveyMany(context.Background(), wire.SurveyMany{Region: region, Inside: true})
	if err != nil {
		b.Fatal(err)
	}
	if w, err = c.Follow(context.Background(), w.ID, 0, nil); err != nil ||
		!strings.HasPrefix(w.Outcome, fmt.Sprintf("%d of %d surveyed: 0 unrecorded, 0 missing", n, n)) {
		b.Fatalf("%v %s", err, w.Outcome)
	}
	return time.Since(began), cpuOf(b, pid) - before
}

const benchFleet = 2000

// BenchmarkSurvey surveys 2,000 instances from inside through the service,
// database writes included, beside "xargs -P 32 ssh HOST cat" over the same; and
// 10,000 beside 1,000. The ratios of one run are what counts.
func BenchmarkSurvey(b *testing.B) {
	f := newFleet(b, benchFleet)
	f.record(b, benchFleet, "bench")
	dir := b.TempDir()
	var hosts, known strings.Builder
	for _, s := range f.servers {
		fmt.Fprintln(&hosts, s.Address)
		fmt.Fprintf(&known, "[%s]:2222 %s\n", s.Address, s.hostKey)
	}
	config := fmt.Sprintf("Host *\n  User debian\n  Port 2222\n  IdentityFile %s\n  IdentitiesOnly yes\n  "+
		"BatchMode yes\n  UserKnownHostsFile %s/known\n  GlobalKnownHostsFile none\n  ControlMaster no\n", f.identity,
		dir)
	for name, text := range map[string]string{"hosts": hosts.String(), "known": known.String(), "config": config} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			b.Fatal(err)
		}
	}
	b.Run("2000-beside-xargs-ssh", func(b *testing.B) {
		f.survey(b, "bench", benchFleet) // the first one ever: everything is judged, and told, once
		f.settle(b)
		var rates, shares, bounds []float64
		for range b.N {
			var before, after syscall.Rusage
			_ = syscall.Getrusage(syscall.RUSAGE_CHILDREN, &before)
			began := time.Now()
			cmd := exec.Command("xargs", "-P", "32", "-I{}", "ssh", "-F", filepath.Join(dir, "config"), "{}",
				"cat .ssh/authorized_keys")
			cmd.Stdin = strings.NewReader(hosts.String())
			out, err := cmd.Output()
			if err != nil || bytes.Count(out, []byte("internal-sftp")) != benchFleet {
				b.Fatalf("%v: %d files", err, bytes.Count(out, []byte("internal-sftp")))
			}
			theirs := time.Since(began)
			_ = syscall.Getrusage(syscall.RUSAGE_CHILDREN, &after)
			theirCPU := time.Duration(after.Utime.Nano() + after.Stime.Nano() - before.Utime.Nano() - before.Stime.Nano())
			bounds = append(bounds, theirs.Seconds()/f.looksAlone(b).Seconds())
			b.ReportMetric(median(bounds), "times-their-rate-by-SSH-alone")
			ours, ourCPU := f.survey(b, "bench", benchFleet)
			f.settle(b)
			rates = append(rates, theirs.Seconds()/ours.Seconds())
			shares = append(shares, ourCPU.Seconds()/theirCPU.Seconds())
			b.ReportMetric(median(rates), "times-their-rate")
			b.ReportMetric(median(shares), "of-their-CPU")
			b.ReportMetric(benchFleet/ours.Seconds(), "surveys/s")
			b.ReportMetric(0, "ns/op")
		}
	})
	f.record(b, 1000, "small") // once: what is measured is called several times
	f.record(b, 10_000, "large")
	b.Run("10000-beside-1000", func(b *testing.B) {
		for range b.N {
			_, small := f.survey(b, "small", 1000)
			f.settle(b)
			_, large := f.survey(b, "large", 10_000)
			f.settle(b)
			b.ReportMetric((large.Seconds()/10)/small.Seconds(), "times-the-cost-an-instance")
			status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", f.d.cmd.Process.Pid))
			if err != nil {
				b.Fatal(err)
			}
			_, rest, _ := strings.Cut(string(status), "VmHWM:")
			kib, _ := strconv.Atoi(strings.Fields(rest)[0])
			b.ReportMetric(float64(kib)/1024, "MiB-at-most")
			b.ReportMetric(0, "ns/op")
		}
	})
}

// looksAlone logs in at each door as the steward and reads the files of keys, 32 at a time, and nothing
// else: nothing is compared, and nothing recorded. No survey that logs in so is faster on the same machine.
func (f *fleet) looksAlone(b *testing.B) time.Duration {
	b.Helper()
	signer, err := f.steward.Signer()
	if err != nil {
		b.Fatal(err)
	}
	look := func(s server) error {
		host, err := keypair.ReadPublic([]byte(s.hostKey))
		if err != nil {
			return err
		}
		files, way, err := reach.SFTP(b.Context(), reach.Policy{AllowLoopback: true}, reach.Target{Address: s.Address,
			Port: 2222, User: "debian", HostKeys: [][]byte{host.Blob}}, signer)
		if err != nil {
			return err
		}
		defer way.Close()
		for _, name := range reach.DefaultKeysFiles {
			if _, err := reach.ReadKeys(files, name); err != nil && !errors.Is(err, reach.ErrMissing) {
				return err
			}
		}
		return nil
	}
	began := time.Now()
	var wg sync.WaitGroup
	slots := make(chan struct{}, 32)
	for _, s := range f.servers {
		slots <- struct{}{}
		wg.Go(func() {
			defer func() { <-slots }()
			if err := look(s); err != nil {
				b.Error(err)
			}
		})
	}
	wg.Wait()
	return time.Since(began)
}

// median of what turns in one run came to.
func median(all []float64) float64 {
	all = slices.Sorted(slices.Values(all))
	return all[len(all)/2]
}

// p50 is the median time of n calls.
func p50(b *testing.B, n int, call func(i int) error) time.Duration {
	b.Helper()
	var all []time.Duration
	for i := range n + 20 {
		began := time.Now()
		if err := call(i); err != nil {
			b.Fatal(err)
		}
		if i >= 20 { // the first warm things up
			all = append(all, time.Since(began))
		}
	}
	slices.Sort(all)
	return all[len(all)/2]
}

// BenchmarkAnswers asks what a key opens, what opens an instance, and what
// needs a hand, on 1,000,000 accesses of 100,000 instances and 20,000 keys: by
// the API beside the same rows by bare SQL through pgx.
func BenchmarkAnswers(b *testing.B) {
	f := newFleet(b, 1)
	ctx := context.Background()
	for _, sql := range []string{
		"SET session_replication_role = replica", // no triggers: what is judged is chosen below
		`INSERT INTO instances (name, name_fold, alias, cloud, client_token, region, image, size, login_user, phase, user_data, created_by, state, address, changed_at, created_at)
			SELECT 'i' || n, 'i' || n, 'i' || n, 'none', 'i' || n, 'north-pier', 'x', 'x', 'debian', 'ready', '', 'x', 'running', '', '2020-01-01', now() FROM generate_series(1, 100000) n`,
		`INSERT INTO keys (name, name_fold, blob, kind, fingerprint, comment, origin, created_by)
			SELECT 'k' || n, 'k' || n, '\x0000000b7373682d6564323535313900000020'::bytea || sha256(n::text::bytea), 'ed25519', 'SHA256:' || n, 'k' || n, 'imported', 'x' FROM generate_series(1, 20000) n`,
		`INSERT INTO access (instance_id, key_id, login_user, standing, standing_at, standing_from)
			SELECT i.id, k.id, 'debian', 'accepted', now(), '192.0.2.1' FROM generate_series(0::bigint, 999999) n JOIN instances i ON i.name = 'i' || (n % 100000 + 1) JOIN keys k ON k.name = 'k' || ((n * 7919 + n / 100000) % 20000 + 1) ON CONFLICT DO NOTHING`,
		"SET session_replication_role = DEFAULT",
		"ANALYZE",
		"UPDATE access SET standing = 'none' WHERE instance_id IN (SELECT id FROM instances WHERE name LIKE " +
			"'i_____' LIMIT 20000)",
	} {
		if _, err := f.db.Exec(ctx, sql); err != nil {
			b.Fatal(err)
		}
	}
	f.settle(b)
	if _, err := f.db.Exec(ctx, "ANALYZE"); err != nil {
		b.Fatal(err)
	}
	web := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{}, MaxIdleConnsPerHost: 4}}
	get := func(path string, least int) error {
		req, err := http.NewRequest("GET", f.d.url+"/api/v1"+path, nil)
		if err != nil {
			return err
		}
		req.Header.Set("Authorization", "Bearer "+f.d.token)
		resp, err := web.Do(req)
		if err != nil {
			return err
		}
		defer resp.Body.Close()
		body, err := io.ReadAll(resp.Body)
		if err == nil && (resp.StatusCode != 200 || bytes.Count(body, []byte(`"evidence"`)) < least) {
			err = fmt.Errorf("%d: %.300s", resp.StatusCode, body)
		}
		return err
	}
	rows := func(sql string, least int, args ...any) error {
		r, err := f.db.Query(ctx, sql, args...)
		if err != nil {
			return err
		}
		n := 0
		for r.Next() {
			if _, err := r.Values(); err != nil {
				return err
			}
			n++
		}
		if n < least && r.Err() == nil {
			return fmt.Errorf("%d rows", n)
		}
		return r.Err()
	}
	const access = `SELECT a.id, i.name, i.region, k.name, a.steward, k.blob, k.comment, h.name, h.sort, k.shown_at, a.login_user, a.created_at, i.changed_at, a.probe_answer, a.probe_at,
		a.standing, a.standing_at, a.standing_from, a.standing_old, a.against, a.against_at FROM access a JOIN instances i ON i.id = a.instance_id LEFT JOIN keys k ON k.id = a.key_id LEFT JOIN holders h ON h.id = k.holder_id `
	for _, c := range []struct {
		name string
		api  func(i int) error
		sql  func(i int) error
	}{
		{"what-a-key-opens", func(i int) error {
			return get(fmt.Sprintf("/access?limit=500&key=k%d", i*37%20000+1),
				20)
		},
			func(i int) error {
				return rows(access+"WHERE k.name_fold = $1 ORDER BY i.name_fold LIMIT 500", 20,
					fmt.Sprintf("k%d", i*41%20000+1))
			}},
		{"what-opens-an-instance", func(i int) error {
			return get(fmt.Sprintf("/access?limit=500&instance=i%d",
				i*337%100000+1), 5)
		},
			func(i int) error {
				return rows(access+"WHERE i.name_fold = $1 AND i.phase <> 'removed' ORDER BY a.id LIMIT 500", 5,
					fmt.Sprintf("i%d", i*341%100000+1))
			}},
		{"today", func(int) error { return get("/today?limit=100", 100) },
			func(int) error {
				return rows(`SELECT id, subject, reason, about, rank, sentence, evidence, command, instance, key, region, since, off_until FROM matters ORDER BY place COLLATE "C", id LIMIT 100`, 100)
			}},
	} {
		b.Run(c.name, func(b *testing.B) {
			for range b.N {
				bare := p50(b, 300, c.sql)
				ours := p50(b, 300, c.api)
				// What every request costs before it asks for anything: the way there and back, and whose token it is.
				token := p50(b, 300, func(int) error { return get("/session", 0) })
				b.ReportMetric(float64(token)/float64(bare), "times-bare-SQL-by-the-token-alone")
				b.ReportMetric(float64(token+bare)/float64(bare), "times-bare-SQL-at-least")
				b.ReportMetric(float64(ours)/float64(bare), "times-bare-SQL")
				b.ReportMetric(float64(ours.Microseconds()), "µs-API")
				b.ReportMetric(float64(bare.Microseconds()), "µs-SQL")
				b.ReportMetric(0, "ns/op")
			}
		})
	}
}
