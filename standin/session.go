package standin

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/term"

	"plumlatch/standin/shell"
)

type ptyRequest struct { // RFC 4254 section 6.2
	Term          string
	Columns, Rows uint32
	Width, Height uint32
	Modes         string
}

type windowChange struct{ Columns, Rows, Width, Height uint32 } // RFC 4254 section 6.7

const sftpCommand = "internal-sftp"

// sftpServer is where Debian has the program, which a session can run, as root too.
const sftpServer = "/usr/lib/openssh/sftp-server"

func (s *server) sftpServer(user string, asRoot bool, ch ssh.Channel) int {
	if asRoot {
		return s.serveSFTP(account{name: "root", home: "root", shell: "/bin/sh"}, ch)
	}
	return s.sftp(user, ch)
}

// session serves one session channel (RFC 4254 section 6).
func (s *server) session(conn *ssh.ServerConn, request ssh.NewChannel) {
	ch, requests, err := request.Accept()
	if err != nil {
		return
	}
	defer ch.Close()
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	var terminal *term.Terminal
	started := false
	done := make(chan int, 1)
	run := func(f func() int) {
		started = true
		go func() { done <- f() }()
	}
	for {
		select {
		case status := <-done:
			_, _ = ch.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{uint32(status)}))
			return
		case r, ok := <-requests:
			if !ok {
				return
			}
			allowed := false
			switch r.Type {
			case "pty-req":
				var p ptyRequest
				allowed = !started && ssh.Unmarshal(r.Payload, &p) == nil && conn.Permissions.Extensions[extNoPTY] == ""
				if allowed {
					terminal = term.NewTerminal(ch, "")
					if p.Columns > 0 { // 0 is "not known"
						_ = terminal.SetSize(int(p.Columns), int(p.Rows))
					}
				}
			case "window-change":
				var w windowChange
				if ssh.Unmarshal(r.Payload, &w) == nil && terminal != nil {
					_ = terminal.SetSize(int(w.Columns), int(w.Rows))
				}
			case "shell", "exec", "subsystem":
				var asked struct{ Text string }
				if r.Type != "shell" && ssh.Unmarshal(r.Payload, &asked) != nil || started {
					break
				}
				command, isForced := conn.Permissions.Extensions[extCommand]
				if !isForced {
					command = asked.Text
				}
				if as, ok := strings.CutSuffix(command, sftpServer); ok && !isForced && (as == "" || as == "sudo -n ") {
					allowed = true
					run(func() int { return s.sftpServer(conn.User(), as != "", ch) })
					break
				}
				sftp := isForced && command == sftpCommand || !isForced && r.Type == "subsystem" && command == "sftp"
				if !isForced && r.Type == "subsystem" && !sftp {
					break
				}
				allowed = true
				switch {
				case sftp:
					run(func() int { return s.sftp(conn.User(), ch) })
				case r.Type == "shell" && !isForced:
					run(func() int { return s.interactive(ctx, conn.User(), ch, terminal) })
				default:
					run(func() int { return s.command(ctx, conn.User(), ch, command, asked.Text) })
				}
			case "env":
				// As OpenSSH does without AcceptEnv: refused.
			case "signal":
				cancel()
			}
			if r.WantReply {
				_ = r.Reply(allowed, nil)
			}
		}
	}
}

func (s *server) shell(user string, ch ssh.Channel, in io.Reader, out, errOut io.Writer,
	env ...string) (*shell.Shell, int) {
	a, ok := s.lookup(user)
	if !ok {
		fmt.Fprintf(ch.Stderr(), "no such user\n")
		return nil, 1
	}
	if noLogin(a.shell) { // nologin(8)
		fmt.Fprintln(ch, noLoginWords)
		return nil, 1
	}
	name := s.in.Name
	if text, err := s.root.ReadFile("etc/hostname"); err == nil && len(bytes.TrimSpace(text)) > 0 {
		name = string(bytes.TrimSpace(text))
	}
	sh, err := shell.New(shell.Host{
		Root: s.tree, Name: name, User: a.name, UID: a.uid, Home: "/" + a.home, Env: env,
		Boot: s.in.Booted, Now: s.now,
		Blocks: func() []shell.BlockDevice { return s.cloud.block(s.in.ID) },
		Mount: func(device, at, fsType string, options []string) error {
			return s.cloud.mount(s, device, at, fsType, options)
		},
		Unmount: func(device string) error { return s.cloud.busy(s, device) },
		Enable:  s.enable,
		Unlock:  func(device, name, passphrase string) int { return s.cloud.unlock(s, device, name, passphrase) },
		Mapping: func(name string, remove bool) (bool, bool) { return s.cloud.mapping(s, name, remove) },
	}, in, out, errOut)
	if err != nil {
		fmt.Fprintf(ch.Stderr(), "shell: %v\n", err)
		return nil, 1
	}
	return sh, 0
}

func (s *server) command(ctx context.Context, user string, ch ssh.Channel, command, original string) int {
	sh, status := s.shell(user, ch, ch, ch, ch.Stderr(), "SSH_ORIGINAL_COMMAND="+original)
	if sh == nil {
		return status
	}
	return sh.Run(ctx, command)
}

// interactive reads lines from the terminal, or from the channel if there is
// none, and runs each.
func (s *server) interactive(ctx context.Context, user string, ch ssh.Channel, t *term.Terminal) int {
	if t == nil {
		script, err := io.ReadAll(ch)
		if err != nil {
			return 1
		}
		return s.command(ctx, user, ch, string(script), "")
	}
	// A command gets no standard input here: the terminal's lines are the shell's.
	sh, status := s.shell(user, ch, strings.NewReader(""), t, t)
	if sh == nil {
		return status
	}
	fmt.Fprintf(t, "%s, a stand-in instance in %s (%s)\n", s.in.Name, s.in.Region, s.image.Title)
	for !sh.Exited() {
		t.SetPrompt(fmt.Sprintf("%s@%s:%s$ ", user, s.in.Name, strings.Replace(sh.Dir(), "/home/"+user, "~", 1)))
		line, err := t.ReadLine()
		if err != nil {
			fmt.Fprint(ch, "\r\nlogout\r\n")
			return status
		}
		if strings.TrimSpace(line) != "" {
			status = sh.Run(ctx, line)
		}
	}
	return status
}
