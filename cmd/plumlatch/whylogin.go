package main

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh/agent"

	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/core/why"
)

// loginLimit is the most that one try of ssh may take.
const loginLimit = 20 * time.Second

// tryLogin has this machine's own ssh log in with exactly one key, and reads
// what it says of it (ssh(1), -v). It ends at authentication, and opens no
// channel: a command that stands with the key must not run.
func (c *cli) tryLogin(d door, l looked) why.Login {
	program, err := exec.LookPath("ssh")
	if err != nil {
		return why.Login{NotTried: "there is no ssh on this machine"}
	}
	dir, err := os.MkdirTemp("", "plumlatch-why-") // mode 0700
	if err != nil {
		return why.Login{NotTried: err.Error()}
	}
	defer os.RemoveAll(dir)
	args, end, why1 := c.loginArgs(program, dir, d, l)
	if why1 != "" {
		return why.Login{NotTried: why1}
	}
	defer end()
	out := why.Login{Tried: true}
	text := runSSH(c.ctx, program, append(args, "-v", "-N", "--", d.address.String()), "Authenticated to ")
	why.ReadSSH(text, &out)
	return out
}

// trySession opens a session with a harmless command, and tells what came of it.
func (c *cli) trySession(d door, l looked, out *why.Login) {
	program, err := exec.LookPath("ssh")
	if err != nil {
		return
	}
	dir, err := os.MkdirTemp("", "plumlatch-why-")
	if err != nil {
		return
	}
	defer os.RemoveAll(dir)
	args, end, not := c.loginArgs(program, dir, d, l)
	if not != "" {
		return
	}
	defer end()
	const word = "plumlatch-is-in"
	text := runSSH(c.ctx, program, append(args, "-q", "--", d.address.String(), "echo "+word), word)
	out.SessionTried = true
	out.SessionOK = strings.Contains(text, word)
	if !out.SessionOK {
		out.SessionSaid = plaintext.Line(plaintext.Cut(strings.TrimSpace(text), 160))
	}
}

// loginArgs are ssh's arguments up to the address. A file that was opened with
// a passphrase is handed over by an agent of our own, never by another file.
func (c *cli) loginArgs(program, dir string, d door, l looked) (args []string, end func(), not string) {
	known := filepath.Join(dir, "known_hosts")
	if err := os.WriteFile(known, []byte(d.known), 0o600); err != nil {
		return nil, nil, err.Error()
	}
	end = func() {}
	identity, socket := l.Path, "none"
	switch {
	case l.Locked && l.InAgent, l.Path == "":
		socket = os.Getenv("SSH_AUTH_SOCK")
	case l.Locked:
		return nil, nil, "the private file is locked"
	}
	encrypted := false
	if data, err := readLimited(l.Path); err == nil && l.Path != "" {
		f, err := keypair.Read(data, nil)
		encrypted = err == nil && f.Encrypted
		clear(data)
	}
	if l.pair != nil && encrypted {
		var err error
		if socket, end, err = serveAgent(dir, l.pair); err != nil {
			return nil, nil, err.Error()
		}
	}
	if l.Path == "" || l.pair != nil && encrypted { // the public half names which of the agent's keys
		identity = filepath.Join(dir, "key.pub")
		if err := os.WriteFile(identity, []byte(l.public.Line()+"\n"), 0o600); err != nil {
			return nil, nil, err.Error()
		}
	}
	identity, err := filepath.Abs(identity)
	if err != nil {
		return nil, nil, err.Error()
	}
	args = []string{"-F", "none", "-T", "-n", "-i", percent(identity), "-p", strconv.Itoa(d.port), "-l", d.user}
	for _, o := range []string{
		"BatchMode=yes", "IdentitiesOnly=yes", "IdentityAgent=" + socket, "StrictHostKeyChecking=yes",
		"UserKnownHostsFile=" + quoted(known), "GlobalKnownHostsFile=/dev/null",
		"HostKeyAlias=" + d.alias, "CheckHostIP=no", "UpdateHostKeys=no", "PreferredAuthentications=publickey",
		"ConnectTimeout=10", "ControlPath=none",
	} {
		args = append(args, "-o", o)
	}
	if d.hop != nil {
		args = append(args, "-o", "ProxyCommand="+proxyCommand(program, *d.hop, identity, known))
	}
	return args, end, ""
}

// serveAgent runs an agent that has one key, on a socket that only we can reach.
func serveAgent(dir string, pair *keypair.Pair) (socket string, end func(), err error) {
	ring := agent.NewKeyring()
	raw, err := pair.AgentKey()
	if err != nil {
		return "", nil, err
	}
	if err := ring.Add(agent.AddedKey{PrivateKey: raw}); err != nil {
		return "", nil, err
	}
	socket = filepath.Join(dir, "agent")
	l, err := net.Listen("unix", socket)
	if err != nil {
		return "", nil, err
	}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				_ = agent.ServeAgent(ring, conn)
			}()
		}
	}()
	return socket, func() { l.Close(); _ = ring.RemoveAll() }, nil
}

func runningAgent() (agent.ExtendedAgent, io.Closer, error) {
	socket := os.Getenv("SSH_AUTH_SOCK")
	if socket == "" {
		return nil, nil, os.ErrNotExist
	}
	conn, err := net.DialTimeout("unix", socket, 3*time.Second)
	if err != nil {
		return nil, nil, err
	}
	return agent.NewClient(conn), conn, nil
}

// runSSH runs ssh until it ends, or until a little after a word came, and
// returns everything that it said, bounded.
func runSSH(ctx context.Context, program string, args []string, until string) string {
	ctx, cancel := context.WithTimeout(ctx, loginLimit)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.WaitDelay = time.Second
	pipe, err := cmd.StderrPipe()
	if err != nil {
		return err.Error()
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err.Error()
	}
	if err := cmd.Start(); err != nil {
		return err.Error()
	}
	var mu sync.Mutex
	var text bytes.Buffer
	var wg sync.WaitGroup
	for _, r := range []io.Reader{pipe, out} {
		wg.Go(func() {
			lines := bufio.NewScanner(io.LimitReader(r, 256<<10))
			for lines.Scan() {
				mu.Lock()
				fmt.Fprintln(&text, strings.TrimRight(lines.Text(), "\r"))
				mu.Unlock()
				if strings.Contains(lines.Text(), until) {
					// What the server has to say of the key comes right after.
					time.AfterFunc(1500*time.Millisecond, cancel)
				}
			}
			_, _ = io.Copy(io.Discard, r)
		})
	}
	wg.Wait()
	_ = cmd.Wait()
	mu.Lock()
	defer mu.Unlock()
	return text.String()
}
