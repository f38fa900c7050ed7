// Package e2e drives the whole of Plum Latch as its users do: the programs as
// they are built, PostgreSQL, the real ssh and sshd, a real browser.
package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"plumlatch/core/access"
)

var (
	bin    string // folder with the built programs
	shared *demo  // one demo without seed data, for the tests that need no other
)

func TestMain(m *testing.M) {
	flag.Parse()
	os.Exit(run(m))
}

func run(m *testing.M) int {
	dir, err := os.MkdirTemp("", "plumlatch-e2e-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	bin = filepath.Join(dir, "bin")
	flags := []string{"build"}
	if raced {
		// What each program finds, also one that a test killed, is in a file.
		flags = append(flags, "-race")
		os.Setenv("GORACE", "log_path="+filepath.Join(dir, "race"))
	}
	if into := os.Getenv("PLUMLATCH_COVER"); into != "" {
		flags = append(flags, "-cover", "-coverpkg=../...")
		os.Setenv("GOCOVERDIR", into) // each program writes down what it went through when it ends
	}
	build := exec.Command("go", append(flags, "-o", bin+"/", "../cmd/...")...)
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "build: %v\n%s", err, out)
		return 1
	}
	halting := exec.Command("go", append(flags, "-tags", "halt", "-o", filepath.Join(bin, "plumlatchd-halt"),
		"../cmd/plumlatchd")...)
	if out, err := halting.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "build: %v\n%s", err, out)
		return 1
	}
	shared = newDemo(filepath.Join(dir, "shared"))
	if err := shared.start("-seed=false", "-follow=-1s", "-surveys=0"); err != nil {
		fmt.Fprintln(os.Stderr, "demo:", err)
		return 1
	}
	if err := letStream(dir); err != nil {
		fmt.Fprintln(os.Stderr, "policy:", err)
		return 1
	}
	code := m.Run()
	shared.stop()
	return max(code, racesIn(dir))
}

// letStream has the shared service's policy let its operator open streams, as the demo's does; the rest of it is what it is from the beginning.
func letStream(dir string) error {
	text := strings.Replace(access.DefaultPolicy, "\nstream:\n  who: []", "\nstream:\n  who: [{operators: [harbour-lead]}]", 1)
	file := filepath.Join(dir, "policy.yaml")
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		return err
	}
	cmd := exec.Command(filepath.Join(bin, "plumlatch"), "policy", "set", file)
	cmd.Env = append(os.Environ(), "PLUMLATCH_URL="+shared.url, "PLUMLATCH_TOKEN="+shared.token)
	if out, err := cmd.CombinedOutput(); err != nil || text == access.DefaultPolicy {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

// raced says whether the programs are built with the race detector (make race).
var raced = os.Getenv("PLUMLATCH_RACE") != ""

// racesIn prints the data races that the programs found in themselves, and
// returns 1 if there is any.
func racesIn(dir string) int {
	files, _ := filepath.Glob(filepath.Join(dir, "race.*"))
	for _, file := range files {
		found, _ := os.ReadFile(file)
		fmt.Fprintf(os.Stderr, "a program of ours raced:\n%s\n", found)
	}
	return min(len(files), 1)
}

// demo is one "plumlatchd demo" in a folder, on ports and a block of its own.
type demo struct {
	dir   string
	port  int
	net   string
	url   string
	token string
	env   []string // of the client, besides
	out   *bytes.Buffer
	cmd   *exec.Cmd
	ended chan error
}

func newDemo(dir string) *demo {
	d := &demo{dir: dir, net: freeBlock()}
	d.port = freePorts(4)
	d.url = fmt.Sprintf("http://127.0.0.1:%d", d.port)
	return d
}

// nextBlock is the block that is tried next: each run begins at another one, as
// several may run on one machine, and gives none twice.
var nextBlock = func() *atomic.Int32 {
	var n atomic.Int32
	n.Store(rand.Int32N(180 * 16))
	return &n
}()

// freeBlock is a block of addresses that no other stand-in has: none of this run, and
// none that now holds the address which marks a block as taken.
func freeBlock() string {
	for {
		n := nextBlock.Add(1) % (180 * 16)
		a, b := 64+n/16, 16*(n%16)
		l, err := net.Listen("tcp4", fmt.Sprintf("127.%d.%d.1:2222", a, b))
		if err == nil {
			l.Close()
			return fmt.Sprintf("127.%d.%d.0/20", a, b)
		}
	}
}

// nextPort is where the next search for free ports begins: below the ports that
// the system gives to connections, and never the same twice.
var nextPort atomic.Int32

// freePorts returns the first of n ports in a row that nobody else of this run gets.
func freePorts(n int) int {
	for {
		port := 12000 + (os.Getpid()*50+int(nextPort.Add(int32(n)))-n)%18000
		if portsFree(port, n) {
			return port
		}
	}
}

func portsFree(port, n int) bool {
	for i := range n {
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port+i))
		if err != nil {
			return false
		}
		l.Close()
	}
	return true
}

func (d *demo) path(parts ...string) string {
	return filepath.Join(append([]string{d.dir, ".demo"}, parts...)...)
}

func (d *demo) command(more ...string) *exec.Cmd {
	args := append([]string{"demo", "-dir", d.path(), "-holders", filepath.Join(d.dir, "demo-holders"), "-port",
		fmt.Sprint(d.port), "-net", d.net}, more...)
	return exec.Command(filepath.Join(bin, "plumlatchd"), args...)
}

// start runs the demo until it announces itself.
func (d *demo) start(more ...string) error {
	if err := os.MkdirAll(d.dir, 0o700); err != nil {
		return err
	}
	d.cmd, d.out, d.ended = d.command(more...), &bytes.Buffer{}, make(chan error, 1)
	pipe, err := d.cmd.StdoutPipe()
	if err != nil {
		return err
	}
	d.cmd.Stderr = d.out
	if err := d.cmd.Start(); err != nil {
		return err
	}
	ready := make(chan bool, 1)
	go func() {
		data := make([]byte, 4096)
		var all bytes.Buffer
		for {
			n, err := pipe.Read(data)
			all.Write(data[:n])
			if strings.Contains(all.String(), "Ctrl-C stops") {
				select {
				case ready <- true:
				default:
				}
			}
			if err != nil {
				break
			}
		}
		d.ended <- d.cmd.Wait()
	}()
	select {
	case <-ready:
	case err := <-d.ended:
		return fmt.Errorf("it ended: %w: %s", err, d.out)
	case <-time.After(4 * time.Minute):
		return errors.New("it does not come up")
	}
	env, err := os.ReadFile(d.path("client.env"))
	if err != nil {
		return err
	}
	_, rest, _ := strings.Cut(string(env), "PLUMLATCH_TOKEN=")
	d.token, _, _ = strings.Cut(rest, "\n")
	return d.hasten()
}

// hasten has the demo's PostgreSQL wait for no disk: nothing of a test is wanted after the machine goes down, and dozens of
// databases that are flushed at once make everything stand still for seconds. Services that are killed lose nothing by it.
// What is measured waits as it would for a user.
func (d *demo) hasten() error {
	if f := flag.Lookup("test.bench"); f != nil && f.Value.String() != "" {
		return nil
	}
	url, err := os.ReadFile(d.path("owner-url"))
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	conn, err := pgx.Connect(ctx, strings.TrimSpace(string(url)))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	for _, sql := range []string{"ALTER SYSTEM SET fsync = off", "ALTER SYSTEM SET full_page_writes = off",
		"ALTER SYSTEM SET synchronous_commit = off", "SELECT pg_reload_conf()"} {
		if _, err := conn.Exec(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}

// stop presses Ctrl-C and waits.
func (d *demo) stop() error {
	if d.cmd == nil {
		return nil
	}
	_ = d.cmd.Process.Signal(syscall.SIGINT)
	select {
	case err := <-d.ended:
		d.cmd = nil
		return err
	case <-time.After(2 * time.Minute):
		_ = d.cmd.Process.Kill()
		return errors.New("it did not stop")
	}
}

// result is what a run of the client came to.
type result struct {
	out, err string
	code     int
}

// client runs the client binary against the demo.
func (d *demo) client(t testing.TB, stdin string, args ...string) result {
	t.Helper()
	return d.clientWith(t, d.url, d.token, stdin, args...)
}

func (d *demo) clientWith(t testing.TB, url, token, stdin string, args ...string) result {
	t.Helper()
	cmd := exec.Command(filepath.Join(bin, "plumlatch"), args...)
	cmd.Env = append(os.Environ(), "PLUMLATCH_URL="+url, "PLUMLATCH_TOKEN="+token, "HOME="+filepath.Join(d.dir, "home"))
	cmd.Env = append(cmd.Env, d.env...)
	cmd.Stdin = strings.NewReader(stdin)
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	if _, ok := errors.AsType[*exec.ExitError](err); err != nil && !ok {
		t.Fatal(err)
	}
	return result{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
}

// must runs the client and fails the test unless it ends with 0.
func (d *demo) must(t testing.TB, args ...string) string {
	t.Helper()
	r := d.client(t, "", args...)
	if r.code != 0 {
		t.Fatalf("plumlatch %s: status %d\n%s%s", strings.Join(args, " "), r.code, r.out, r.err)
	}
	return r.out
}

// answer is an HTTP answer, read.
type answer struct {
	status int
	header http.Header
	body   string
}

func (a answer) field(t *testing.T, name string) string {
	t.Helper()
	var m map[string]any
	if err := json.Unmarshal([]byte(a.body), &m); err != nil {
		t.Fatalf("no JSON: %s", a.body)
	}
	s, _ := m[name].(string)
	return s
}

// api makes one call with the demo's token, or with the headers given.
func (d *demo) api(t testing.TB, method, path, body string, headers ...string) answer {
	t.Helper()
	req, err := http.NewRequest(method, d.url+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	if len(headers) == 0 {
		headers = []string{"Authorization", "Bearer " + d.token}
	}
	for i := 0; i+1 < len(headers); i += 2 {
		if headers[i] == "Host" {
			req.Host = headers[i+1]
			continue
		}
		req.Header.Set(headers[i], headers[i+1])
	}
	resp, err := http.DefaultTransport.RoundTrip(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	data, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	return answer{resp.StatusCode, resp.Header, string(data)}
}

// waitFor polls until ok, for a while.
func waitFor(t testing.TB, what string, ok func() bool) {
	t.Helper()
	if !cameWithin(2*time.Minute, ok) {
		t.Fatalf("never came: %s", what)
	}
}

// cameWithin waits until something holds, and tells whether it came to that.
func cameWithin(limit time.Duration, ok func() bool) bool {
	for deadline := time.Now().Add(limit); ; {
		asked := time.Now()
		if ok() {
			return true
		}
		if time.Now().After(deadline) {
			return false
		}
		leaveTime(asked)
	}
}

// leaveTime sleeps before somebody who waits asks again: asking costs, and what waits shall leave the machine to what works.
func leaveTime(asked time.Time) {
	time.Sleep(min(max(50*time.Millisecond, 3*time.Since(asked)), time.Second))
}

func contains(t testing.TB, what, text string, wants ...string) {
	t.Helper()
	for _, w := range wants {
		if !strings.Contains(text, w) {
			t.Errorf("%s lacks %q:\n%s", what, w, text)
		}
	}
}

// text gets a document that is no JSON.
func (d *demo) text(path, token string) (string, error) {
	req, err := http.NewRequest("GET", d.url+path, nil)
	if err != nil {
		return "", err
	}
	req.Header.Set("Authorization", "Bearer "+token)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	data, err := io.ReadAll(resp.Body)
	return string(data), err
}
