package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// child is a program that the demo has started. It is stopped with the demo,
// and by the kernel should the demo be killed.
type child struct {
	name   string
	cmd    *exec.Cmd
	log    string
	done   chan struct{}
	status error
}

// startChild starts a program in a process group of its own, so that Ctrl-C
// reaches the demo alone, which then stops everything in order.
func startChild(name, logFile string, death syscall.Signal, cmd *exec.Cmd) (*child, error) {
	f, err := os.OpenFile(logFile, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	cmd.Stdout, cmd.Stderr = f, f
	if cmd.SysProcAttr == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{}
	}
	cmd.SysProcAttr.Setpgid = true
	cmd.SysProcAttr.Pdeathsig = death
	c := &child{name: name, cmd: cmd, log: logFile, done: make(chan struct{})}
	started := make(chan error)
	go func() {
		// The kernel sends the death signal when this thread ends, not the process.
		runtime.LockOSThread()
		err := cmd.Start()
		started <- err
		if err == nil {
			c.status = cmd.Wait()
			close(c.done)
		}
	}()
	return c, <-started
}

// stop asks the program to end and waits for it.
func (c *child) stop(sig syscall.Signal) error {
	_ = c.cmd.Process.Signal(sig)
	select {
	case <-c.done:
		return nil
	case <-time.After(20 * time.Second):
		return errors.Join(fmt.Errorf("%s did not stop in time and was killed; its log is %s", c.name, c.log), c.cmd.Process.Kill())
	}
}

// await calls ready until it says yes, the program ends, or time is up.
func (c *child) await(ctx context.Context, ready func() bool) error {
	deadline := time.After(40 * time.Second)
	for !ready() {
		select {
		case <-c.done:
			return fmt.Errorf("%s ended at its start; the end of %s:\n%s", c.name, c.log, lastLines(c.log, 5))
		case <-deadline:
			return fmt.Errorf("%s does not come up; the end of %s:\n%s", c.name, c.log, lastLines(c.log, 5))
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
	return nil
}

func lastLines(file string, n int) string {
	data, err := os.ReadFile(file)
	if err != nil {
		return "(it cannot be read)"
	}
	lines := strings.Split(strings.TrimRight(string(data), "\n"), "\n")
	return "    " + strings.Join(lines[max(0, len(lines)-n):], "\n    ")
}

// postgresBinaries returns the folder of the newest PostgreSQL server that
// Debian's packages have put on this machine.
func postgresBinaries() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	slices.SortFunc(found, func(a, b string) int { return postgresVersion(a) - postgresVersion(b) })
	if len(found) == 0 {
		return "", errors.New("there is no PostgreSQL server on this machine; install it with: apt-get install postgresql")
	}
	return filepath.Dir(found[len(found)-1]), nil
}

func postgresVersion(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

const databaseUser = "plumlatch"

// maxConnections leaves room for many replicas beside the demo's own: each keeps
// open what it may open, and one that was stopped keeps it too.
const maxConnections = 300

// capDACReadSearch lets the database's user pass through folders that only
// root may enter, on the way to its own (capabilities(7)).
const capDACReadSearch = 2

// asDatabaseUser makes a command run as the user "postgres" when we are root,
// since PostgreSQL refuses to run as root.
func asDatabaseUser(cmd *exec.Cmd) error {
	if os.Geteuid() != 0 {
		return nil
	}
	uid, gid, err := databaseOwner()
	if err != nil {
		return err
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{
		Credential:  &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)},
		AmbientCaps: []uintptr{capDACReadSearch},
	}
	return nil
}

// startPostgres makes a database cluster in the folder, unless it stands, and
// starts it on loopback. It returns the URL to connect by.
func startPostgres(ctx context.Context, folder, logs string, port int, password string) (*child, string, error) {
	bin, err := postgresBinaries()
	if err != nil {
		return nil, "", err
	}
	data := filepath.Join(folder, "data")
	if err := initPostgres(ctx, bin, folder, data, password); err != nil {
		return nil, "", err
	}
	cmd := exec.Command(filepath.Join(bin, "postgres"), "-D", data, "-c", "listen_addresses=127.0.0.1", "-c", "port="+strconv.Itoa(port),
		"-c", "unix_socket_directories=", "-c", "log_statement=none", "-c", "log_min_error_statement=panic", "-c", "max_connections="+strconv.Itoa(maxConnections))
	cmd.Env = []string{"LC_ALL=C.UTF-8", "PATH=" + os.Getenv("PATH")}
	cmd.Dir = "/"
	if err := asDatabaseUser(cmd); err != nil {
		return nil, "", err
	}
	// SIGINT is PostgreSQL's fast shutdown.
	c, err := startChild("PostgreSQL", filepath.Join(logs, "postgres.log"), syscall.SIGINT, cmd)
	if err != nil {
		return nil, "", fmt.Errorf("PostgreSQL: %w", err)
	}
	url := fmt.Sprintf("postgres://%s:%s@%s/postgres?sslmode=disable", databaseUser, password, net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	err = c.await(ctx, func() bool {
		ctx, cancel := context.WithTimeout(ctx, time.Second)
		defer cancel()
		conn, err := pgx.Connect(ctx, url)
		if err == nil {
			_ = conn.Close(ctx)
		}
		return err == nil
	})
	if err != nil {
		return nil, "", errors.Join(err, c.stop(syscall.SIGINT))
	}
	return c, url, nil
}

// serviceRole makes the role that the service connects as, which owns nothing,
// and returns the URL to connect by.
func serviceRole(ctx context.Context, ownerURL, password string) (string, error) {
	conn, err := pgx.Connect(ctx, ownerURL)
	if err != nil {
		return "", err
	}
	defer conn.Close(ctx)
	role := databaseUser + "_service"
	var there bool
	if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM pg_roles WHERE rolname = $1)", role).Scan(&there); err != nil {
		return "", err
	}
	if !there { // CREATE ROLE takes no parameters; the password is hexadecimal
		if _, err := conn.Exec(ctx, fmt.Sprintf("CREATE ROLE %s LOGIN PASSWORD '%s'", role, password)); err != nil {
			return "", err
		}
	}
	u, err := url.Parse(ownerURL)
	if err != nil {
		return "", err
	}
	u.User = url.UserPassword(role, password)
	return u.String(), nil
}

func initPostgres(ctx context.Context, bin, folder, data, password string) error {
	if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); err == nil {
		return nil
	}
	if _, err := os.Stat(data); err == nil {
		return fmt.Errorf("%s is no whole database folder; \"make demo-reset\" wipes the demo", data)
	}
	// Made beside its place and moved there when whole, so that an
	// interrupted start leaves nothing that looks like a database.
	making := filepath.Join(folder, "making")
	if err := errors.Join(os.RemoveAll(making), os.MkdirAll(making, 0o700)); err != nil {
		return err
	}
	pwfile := filepath.Join(folder, "password")
	if err := os.WriteFile(pwfile, []byte(password+"\n"), 0o600); err != nil {
		return err
	}
	defer os.Remove(pwfile)
	if os.Geteuid() == 0 {
		uid, gid, err := databaseOwner()
		if err != nil {
			return err
		}
		for _, p := range []string{folder, making, pwfile} {
			if err := os.Chown(p, uid, gid); err != nil {
				return err
			}
		}
	}
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), "-D", making, "-U", databaseUser, "-A", "scram-sha-256", "--pwfile", pwfile, "-E", "UTF8", "--no-locale", "--no-sync")
	cmd.Dir = "/"
	if err := asDatabaseUser(cmd); err != nil {
		return err
	}
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("initdb: %w:\n%s", err, out)
	}
	return os.Rename(making, data)
}

func databaseOwner() (uid, gid int, err error) {
	u, err := user.Lookup("postgres")
	if err != nil {
		return 0, 0, errors.New("there is no user \"postgres\", which Debian's package makes; PostgreSQL refuses to run as root")
	}
	uid, err = strconv.Atoi(u.Uid)
	if err != nil {
		return 0, 0, err
	}
	gid, err = strconv.Atoi(u.Gid)
	return uid, gid, err
}
