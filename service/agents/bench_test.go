package agents_test

import (
	"bufio"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/coder/websocket"
	"golang.org/x/crypto/ssh"

	"plumlatch/core/agentcalls"
	"plumlatch/service/kinds/kindtest"
)

// The agents of the benchmark are in processes of their own: a process may hold 20,000 descriptors, and their memory is not the service's.
const (
	benchAgents    = 10_000
	benchProcesses = 4
	benchEnv       = "PLUMLATCH_BENCH_AGENTS" // ADDRESS FIRST COUNT of a process
	benchAuthority = "PLUMLATCH_BENCH_AUTHORITY"
)

// benchKey is the key of the agent with this number: both sides compute it.
func benchKey(n int) ed25519.PrivateKey {
	seed := sha256.Sum256(fmt.Appendf(nil, "agent %d", n))
	return ed25519.NewKeyFromSeed(seed[:])
}

// TestBenchAgents is one of those processes; without the environment of the benchmark it does nothing.
func TestBenchAgents(t *testing.T) {
	var address string
	var first, count int
	if _, err := fmt.Sscan(os.Getenv(benchEnv), &address, &first, &count); err != nil {
		t.Skip("it is a process of BenchmarkAgents")
	}
	block, _ := pem.Decode([]byte(os.Getenv(benchAuthority)))
	authority, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		t.Fatal(err)
	}
	pool := x509.NewCertPool()
	pool.AddCert(authority)
	hello, err := json.Marshal(agentcalls.Hello{Version: "1", Verbs: agentcalls.Verbs, Trust: agentcalls.ByOperators})
	if err != nil {
		t.Fatal(err)
	}
	enter := func(n int) error {
		key := benchKey(n)
		c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "x"}, NotAfter: time.Now().Add(time.Hour)}
		der, err := x509.CreateCertificate(rand.Reader, c, c, key.Public(), key)
		if err != nil {
			return err
		}
		config := &tls.Config{RootCAs: pool, ServerName: agentcalls.ServerName, Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}}
		transport := &http.Transport{DialTLSContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			return (&tls.Dialer{Config: config}).DialContext(ctx, network, address)
		}}
		conn, _, err := websocket.Dial(t.Context(), "wss://"+address+agentcalls.Path, &websocket.DialOptions{HTTPClient: &http.Client{Transport: transport}})
		if err != nil {
			return err
		}
		if err := conn.Write(t.Context(), websocket.MessageText, hello); err != nil {
			return err
		}
		_, said, err := conn.Read(t.Context())
		var w agentcalls.Welcome
		if err == nil {
			err = json.Unmarshal(said, &w)
		}
		if err == nil && w.Refused != "" {
			err = fmt.Errorf("refused: %s", w.Why)
		}
		if err == nil {
			go func() { _, _, _ = conn.Read(t.Context()) }() // it answers pings
		}
		return err
	}
	var all sync.WaitGroup
	turns := make(chan struct{}, 20)
	for n := first; n < first+count; n++ {
		turns <- struct{}{}
		all.Go(func() {
			defer func() { <-turns }()
			if err := enter(n); err != nil {
				t.Errorf("agent %d: %v", n, err)
			}
		})
	}
	all.Wait()
	fmt.Println("all in")
	_, _ = bufio.NewReader(os.Stdin).ReadString('\n') // until the benchmark has measured
}

// BenchmarkAgents: what ten thousand connected agents cost the service in memory, TLS and WebSocket included: heap and stacks, and the whole
// process as the system counts it.
func BenchmarkAgents(b *testing.B) {
	for range b.N {
		agentsOnce(b)
	}
}

func agentsOnce(b *testing.B) {
	h := kindtest.New(b)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	if err := h.W.Agents.Serve(b.Context(), l, l.Addr().String()); err != nil {
		b.Fatal(err)
	}
	h.Exec(`INSERT INTO instances (name, name_fold, alias, cloud, client_token, region, image, size, login_user, phase, user_data, created_by, state, address, changed_at, created_at)
		SELECT 'i' || n, 'i' || n, 'i' || n, 'none', 'i' || n, 'north-pier', 'x', 'x', 'debian', 'ready', '', 'x', 'running', '', '2020-01-01', now() FROM generate_series(0, $1::int - 1) n`, benchAgents)
	keys := make([][]byte, benchAgents)
	for n := range keys {
		k, err := ssh.NewPublicKey(benchKey(n).Public())
		if err != nil {
			b.Fatal(err)
		}
		keys[n] = k.Marshal()
	}
	h.Exec(`INSERT INTO agents (instance_id, public_key, fingerprint, enrolled_by)
		SELECT i.id, k.key, 'SHA256:' || k.n, 'x' FROM unnest($1::bytea[]) WITH ORDINALITY k(key, n) JOIN instances i ON i.name = 'i' || (k.n - 1)`, keys)
	pin, err := h.W.Agents.Pin(b.Context())
	if err != nil {
		b.Fatal(err)
	}
	keys = nil
	before, process := memory(b)
	began := time.Now()
	var ends []func()
	each := benchAgents / benchProcesses
	var in sync.WaitGroup
	for n := range benchProcesses {
		cmd := exec.CommandContext(b.Context(), os.Args[0], "-test.run=^TestBenchAgents$", "-test.v")
		cmd.Env = append(os.Environ(), fmt.Sprintf("%s=%s %d %d", benchEnv, l.Addr(), n*each, each), benchAuthority+"="+pin)
		stdin, err := cmd.StdinPipe()
		if err != nil {
			b.Fatal(err)
		}
		out, err := cmd.StdoutPipe()
		if err != nil {
			b.Fatal(err)
		}
		if err := cmd.Start(); err != nil {
			b.Fatal(err)
		}
		ends = append(ends, func() { stdin.Close(); _ = cmd.Wait() })
		in.Go(func() {
			lines := bufio.NewScanner(out)
			for lines.Scan() && !strings.Contains(lines.Text(), "all in") {
				if strings.Contains(lines.Text(), "agent ") {
					b.Error(lines.Text())
				}
			}
			go func() { // what it still says
				for lines.Scan() {
				}
			}()
		})
	}
	in.Wait()
	took := time.Since(began)
	after, whole := memory(b)
	for _, end := range ends {
		end()
	}
	b.ReportMetric(float64(after-before)/benchAgents/1024, "KiB-each")
	b.ReportMetric(float64(whole-process)/benchAgents/1024, "KiB-each-of-the-process")
	b.ReportMetric(benchAgents/took.Seconds(), "agents/s")
	b.ReportMetric(0, "ns/op")
}

// memory is what this process holds: heap and stacks in use, and all of it that is in memory (proc(5), statm).
func memory(b *testing.B) (used, resident uint64) {
	b.Helper()
	runtime.GC()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	text, err := os.ReadFile("/proc/self/statm")
	var size, pages uint64
	if err == nil {
		_, err = fmt.Sscan(string(text), &size, &pages)
	}
	if err != nil {
		b.Fatal(err)
	}
	return m.HeapInuse + m.StackInuse, pages * uint64(os.Getpagesize())
}
