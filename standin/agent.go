package standin

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/agent"
	"plumlatch/core/accounts"
	"plumlatch/core/agentcalls"
	"plumlatch/core/authkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/loginlog"
	"plumlatch/core/names"
	"plumlatch/core/rotation"
	"plumlatch/core/wire"
	"plumlatch/reach"
)

// An image can carry Plum Latch's agent. It is the agent's own code, over the instance's folder: its files, its key, its frames and what its owner
// allows are the real ones. What its verbs see and change is what the stand-in's servers obey, and nothing else.

// agentProgram is where an image carries it; the program itself is the stand-in's own.
const agentProgram = "usr/local/sbin/plumlatch-agent"

// writtenFile is an entry of cloud-init's write_files.
type writtenFile struct {
	Path string `yaml:"path"`
	Mode string `yaml:"permissions"`
	Text string `yaml:"content"`
}

// writeFiles writes what user data says, as far as it is an agent's.
func (c *Cloud) writeFiles(in *stored, files []writtenFile, console io.Writer) error {
	for _, f := range files {
		at := path.Clean("/" + f.Path)[1:]
		if !strings.HasPrefix(at, "etc/plumlatch-agent") && !strings.HasPrefix(at, "run/plumlatch-agent/") {
			fmt.Fprintf(console, "cloud-init: write_files: /%s is not modelled by the stand-in\n", at)
			continue
		}
		mode := fs.FileMode(0o644)
		if f.Mode == "0600" {
			mode = 0o600
		}
		if err := c.root.MkdirAll(diskName(in.ID)+"/"+path.Dir(at), 0o755); err != nil {
			return err
		}
		if err := c.writeFile(diskName(in.ID)+"/"+at, f.Text, mode); err != nil {
			return err
		}
	}
	return nil
}

// enrollAgent does what the agent's part of user data has first boot run, on an image that carries it.
func (c *Cloud) enrollAgent(in *stored, image Image, console io.Writer) error {
	root := diskName(in.ID)
	token, err := c.root.ReadFile(root + "/run/plumlatch-agent/token")
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if !image.Agent {
		fmt.Fprintf(console, "cloud-init: plumlatch-agent: it is not on this image, and fetching it is not modelled by the stand-in\n")
		return nil
	}
	authority, err := c.root.ReadFile(root + "/run/plumlatch-agent/authority.pem")
	if err != nil {
		return err
	}
	public, err := agent.Paths{Root: filepath.Join(c.opts.Folder, root)}.Enroll(0, authority, string(token))
	if err != nil {
		fmt.Fprintf(console, "cloud-init: plumlatch-agent: %v\n", err)
		return nil
	}
	fmt.Fprintf(console, "cloud-init: %s\n", public)
	return c.root.RemoveAll(root + "/run/plumlatch-agent")
}

// runAgent runs the agent of an instance on whose image it is and that was given an owner's file, until the server ends. The fault "agent" has it
// late ("slow": each verb comes after Delay), die in the middle of a verb ("fail"), or stay away for Delay ("hang").
func (s *server) runAgent() {
	if !s.image.Agent {
		return
	}
	if _, err := s.root.Stat(agent.OwnerFile[1:]); err != nil {
		return
	}
	ctx, cancel := context.WithCancel(context.Background())
	s.endAgent = cancel
	s.wg.Go(func() {
		for ctx.Err() == nil {
			if f, ok := s.cloud.faults.take("agent-away", called(s.in.Name, s.in.Tags)...); ok {
				wait(ctx, time.Duration(f.Delay)*time.Millisecond)
			}
			once, die := context.WithCancel(ctx)
			a := &agent.Agent{Paths: agent.Paths{Root: s.disk}, Log: s.log.With("program", "plumlatch-agent"), Machine: machine{s, die}}
			if err := a.Run(once); err != nil {
				s.log.Debug("the agent ended", "error", err)
				wait(ctx, 5*time.Second)
			}
			die()
			wait(ctx, 200*time.Millisecond) // its unit starts it again
		}
	})
}

func wait(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// machine is an instance as its agent sees it.
type machine struct {
	*server
	die func()
}

// fault is what happens to a verb before it is carried out.
func (m machine) fault(ctx context.Context) error {
	f, ok := m.cloud.faults.take("agent", called(m.in.Name, m.in.Tags)...)
	switch {
	case !ok:
		return nil
	case f.How == "slow":
		wait(ctx, time.Duration(f.Delay)*time.Millisecond)
	case f.How == "fail":
		m.die()
		<-ctx.Done()
		return ctx.Err()
	}
	return nil
}

// people are the users with a shell that logs in.
func (m machine) people() (out []account, err error) {
	passwd, err := m.root.ReadFile("etc/passwd")
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(string(passwd)) {
		name, _, _ := strings.Cut(line, ":")
		if a, ok := m.lookup(name); ok && !noLogin(a.shell) {
			out = append(out, a)
		}
	}
	return out, nil
}

// files is the way to the files below the instance's folder.
func (m machine) files() reach.Files { return reach.FilesBelow(m.disk) }

func keysFile(a account) string { return "/" + path.Join(a.home, ".ssh/authorized_keys") }

func (m machine) Look(ctx context.Context, w agentcalls.LookArgs) (out wire.ClientSurvey, err error) {
	if err := m.fault(ctx); err != nil {
		return out, err
	}
	out.Privilege, out.NotSeen = "root", []string{"services, ports and mounts: the stand-in has none that are shown here"}
	people, err := m.people()
	if err != nil {
		return out, err
	}
	for _, a := range people {
		u := wire.UserFiles{User: a.name, Whole: true, Keys: []wire.FoundKey{}}
		for _, file := range []string{keysFile(a), keysFile(a) + "2"} {
			data, err := reach.ReadKeys(m.files(), file)
			if errors.Is(err, reach.ErrMissing) {
				continue
			}
			if err != nil {
				u.Whole, u.NotSeen = false, append(u.NotSeen, err.Error())
				continue
			}
			u.Files = append(u.Files, file)
			for _, l := range authkeys.Parse(data, time.UTC) {
				if l.Err == nil {
					u.Keys = append(u.Keys, wire.FoundKey{File: file, Line: l.Number, Options: l.Options.Text,
						PublicKey: keypair.Public{Blob: l.Blob, Comment: l.Comment}.Line()})
				}
			}
		}
		out.Users = append(out.Users, u)
	}
	for word, value := range m.settings() {
		if slices.Contains([]string{"passwordauthentication", "pubkeyauthentication", "permitrootlogin", "authenticationmethods", "usepam"}, word) {
			out.Config = append(out.Config, word+" "+value)
		}
	}
	slices.Sort(out.Config)
	log := m.logins(w.LoginsSince)
	report, _ := log.Report()
	out.Logins = &report
	return out, nil
}

// logins reads the log of logins, which is like that of OpenSSH's server.
func (m machine) logins(since time.Time) reach.Logins {
	out := reach.Logins{Source: "auth.log", Clock: m.now().Truncate(time.Second), Read: time.Now()}
	text, err := m.root.ReadFile(authLog)
	if err != nil {
		return out
	}
	for line := range strings.Lines(string(text)) {
		if out.Since.IsZero() {
			out.Since = loginlog.TimeOf(line, m.now())
		}
		if l, ok := loginlog.Text(line, m.now()); ok && !l.At.Before(since) {
			out.Tally.Add(l)
		}
	}
	return out
}

func (m machine) Edit(ctx context.Context, w agentcalls.EditArgs, judged string) (agentcalls.Edited, error) {
	if err := m.fault(ctx); err != nil {
		return agentcalls.Edited{}, err
	}
	a, ok := m.lookup(w.User)
	if !ok {
		return agentcalls.Edited{}, agent.Refuse("there is no user of that name")
	}
	out := agentcalls.Edited{File: keysFile(a)}
	data, err := reach.ReadKeys(m.files(), out.File)
	missing := errors.Is(err, reach.ErrMissing)
	if err != nil && !missing {
		return out, agent.Refuse("%w", err)
	}
	sum := sha256.Sum256(data)
	if judged != "" && judged != hex.EncodeToString(sum[:]) {
		return out, agent.ErrChanged
	}
	switch {
	case w.Line != "":
		if out.There = authkeys.ParseDocument(data).Has(w.Line); out.There {
			return out, nil
		}
		if missing {
			if err := m.root.MkdirAll(path.Join(a.home, ".ssh"), 0o700); err != nil {
				return out, err
			}
			if err := m.files().Create(out.File, 0o600, nil); err != nil {
				return out, err
			}
		}
		_, err = reach.AddLine(m.files(), out.File, w.Line, m.now())
	case len(w.Take) > 0:
		permit, wrong := rotation.OnRequest(rotation.Paper{LoginUser: w.User, File: out.File, SHA256: judged, Lines: w.Take, Rests: w.Rests,
			Until: time.Now().Add(time.Minute)}, data)
		if wrong != nil {
			return out, agent.Refuse("%w", wrong)
		}
		_, err = reach.Edit(ctx, m.files(), out.File, permit, reach.EditOptions{Now: m.now()}, func(d *authkeys.Document) error {
			for _, line := range w.Take {
				d.RemoveAppended(line)
			}
			return nil
		})
		out.Taken = err == nil
	default:
		out.SHA256, out.Keys = hex.EncodeToString(sum[:]), []agentcalls.SeenKey{}
		for _, l := range authkeys.Parse(data, time.UTC) {
			if l.Err == nil {
				out.Keys = append(out.Keys, agentcalls.SeenKey{Line: l.Number, Options: l.Options.Text, PublicKey: keypair.Public{Blob: l.Blob}.Line()})
			}
		}
	}
	if err != nil {
		return out, agent.Refuse("%w", err)
	}
	return out, nil
}

func (m machine) Users(ctx context.Context, w agentcalls.UsersArgs, hash string) (out agentcalls.UsersDone, err error) {
	if err := m.fault(ctx); err != nil {
		return out, err
	}
	people, err := m.people()
	if err != nil {
		return out, err
	}
	n := slices.IndexFunc(people, func(a account) bool { return a.name == w.User })
	if n < 0 && w.Do != "list" && w.Do != "add" {
		return out, agent.Refuse("there is no such user")
	}
	switch w.Do {
	case "list":
		out.Keys, out.Takes = map[string]int{}, "sha512crypt"
		for _, a := range people {
			one := accounts.Account{Name: a.name, UID: a.uid, Shell: a.shell, Home: "/" + a.home, HomeIs: accounts.HomeFolder, HomeOwner: a.uid, Sudo: accounts.SudoFree,
				Password: "locked"}
			if a.uid == 0 {
				one.Sudo = accounts.SudoRoot
			}
			if strings.HasPrefix(m.password(a.name), "$") || strings.HasPrefix(m.password(a.name), "{plain}") {
				one.Password = "set"
			}
			out.All = append(out.All, one)
			data, _ := reach.ReadKeys(m.files(), keysFile(a))
			for _, l := range authkeys.Parse(data, time.UTC) {
				if l.Err == nil {
					out.Keys[a.name]++
				}
			}
		}
	case "add":
		if _, there := m.lookup(w.User); there || !names.LoginUser(w.User) {
			return out, agent.Refuse("there is a user of that name already")
		}
		uid := 1000
		for _, a := range people {
			uid = max(uid, a.uid+1)
		}
		home := "home/" + w.User
		if err := m.root.MkdirAll(home+"/.ssh", 0o755); err != nil {
			return out, err
		}
		if w.Line != "" {
			if err := m.root.WriteFile(home+"/.ssh/authorized_keys", []byte(w.Line+"\n"), 0o600); err != nil {
				return out, err
			}
		}
		out.UID, out.Said = uid, "/"+home
		err = m.appendTo("etc/passwd", fmt.Sprintf("%s:x:%d:%d::/%s:/bin/sh\n", w.User, uid, uid, home))
	case "owned":
		out.Owned = accounts.Owned{}
	case "remove":
		a := people[n]
		if a.uid == 0 || w.User == m.in.LoginUser {
			return out, agent.Refuse("it is the last user who can become root, or root")
		}
		if err = m.withoutLine("etc/passwd", w.User); err == nil && !w.KeepHome {
			err = m.root.RemoveAll(a.home)
		}
	case "lock", "password":
		if w.Do == "lock" {
			hash = "*"
		}
		day := ""
		if w.Expire {
			day = "0"
		}
		if err = m.withoutLine("etc/shadow", w.User); err == nil {
			err = m.appendTo("etc/shadow", w.User+":"+hash+":"+day+"::::::\n")
		}
	}
	return out, err
}

func (m machine) appendTo(name, text string) error {
	f, err := m.root.OpenFile(name, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	_, err = f.WriteString(text)
	return errors.Join(err, f.Close())
}

// withoutLine takes a user's line out of a file of passwd(5) or shadow(5).
func (m machine) withoutLine(name, user string) error {
	text, err := m.root.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	var out strings.Builder
	for line := range strings.Lines(string(text)) {
		if !strings.HasPrefix(line, user+":") {
			out.WriteString(line)
		}
	}
	return m.root.WriteFile(name, []byte(out.String()), 0o644)
}

// Logins shows what the stand-in's servers obey; to change it there, a server is needed that can be told to read its configuration.
func (m machine) Logins(context.Context, agentcalls.LoginsArgs) (agentcalls.LoginsDone, error) {
	return agentcalls.LoginsDone{}, agent.Refuse("the stand-in's servers read their configuration for each connection: there is nothing to be reloaded, and no way back")
}

// Sessions ends none: the stand-in's sessions are no processes.
func (m machine) Sessions(context.Context, agentcalls.SessionsArgs) (agentcalls.SessionsDone, error) {
	return agentcalls.SessionsDone{}, agent.Refuse("the stand-in's sessions are no processes")
}

// SSH reaches the instance's own server from the instance's own address: the stand-in's machines have no loopback of their own.
func (m machine) SSH(ctx context.Context) (net.Conn, error) {
	if err := m.fault(ctx); err != nil {
		return nil, err
	}
	own := net.ParseIP(m.in.Address)
	d := net.Dialer{LocalAddr: &net.TCPAddr{IP: own}}
	return d.DialContext(ctx, "tcp", net.JoinHostPort(m.in.Address, strconv.Itoa(m.in.Port)))
}

// End ends an account: it logs in no more (shadow(5)).
func (m machine) End(_ context.Context, user string, uid, _ int) error {
	if a, ok := m.lookup(user); !ok || a.uid != uid || uid == 0 {
		return nil
	}
	if err := m.withoutLine("etc/shadow", user); err != nil {
		return err
	}
	return m.appendTo("etc/shadow", user+":*::::::1:\n")
}

// authLog is where logins are written, as rsyslog does.
const authLog = "var/log/auth.log"

// logLogin writes a login to the instance's log, as OpenSSH's server does.
func (s *server) logLogin(c *ssh.ServerConn) {
	method := "password"
	what := ""
	if print := c.Permissions.Extensions[extPrint]; print != "" {
		method, what = "publickey", ": "+print
	}
	address, port, _ := strings.Cut(c.RemoteAddr().String(), ":")
	line := fmt.Sprintf("%s %s sshd[%d]: Accepted %s for %s from %s port %s ssh2%s\n", s.now().Format("2006-01-02T15:04:05.000000-07:00"), s.in.Name, 1000+len(s.in.ID), method,
		c.User(), address, port, what)
	if fi, err := s.root.Stat(authLog); err == nil && fi.Size() > 8<<20 { // rotated
		_ = s.root.Rename(authLog, authLog+".1")
	}
	f, err := s.root.OpenFile(authLog, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o640)
	if err != nil {
		return // a disk that is full logs nothing
	}
	_, _ = f.WriteString(line)
	_ = f.Close()
}
