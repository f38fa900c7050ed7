// Package postgres starts a PostgreSQL server of one's own, from Debian's packages: for the
// demo, and for tests. A service in earnest is given the URL of a database that others run.
package postgres

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
	"slices"
	"strconv"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"plumlatch/service/child"
)

// binaries returns the folder of the newest PostgreSQL server that
// Debian's packages have put on this machine.
func binaries() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	slices.SortFunc(found, func(a, b string) int { return version(a) - version(b) })
	if len(found) == 0 {
		return "", errors.New("there is no PostgreSQL server on this machine; install it with: apt-get install " +
			"postgresql")
	}
	return filepath.Dir(found[len(found)-1]), nil
}

func version(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

// User is the owner of the databases.
const User = "plumlatch"

// maxConnections leaves room for many replicas beside the demo's own: each keeps
// open what it may open, and one that was stopped keeps it too.
const maxConnections = 300

// capDACReadSearch lets the database's user pass through folders that only
// root may enter, on the way to its own (capabilities(7)).
const capDACReadSearch = 2

// asOwner makes a command run as the user "postgres" when we are root,
// since PostgreSQL refuses to run as root.
func asOwner(cmd *exec.Cmd) error {
	if os.Geteuid() != 0 {
		return nil
	}
	uid, gid, err := systemUser()
	if err != nil {
		return err
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{
		Credential:  &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)},
		AmbientCaps: []uintptr{capDACReadSearch},
	}
	return nil
}

// Start makes a database cluster in the folder, unless it stands, and starts it on
// loopback. It returns the URL to connect by, as the owner.
func Start(ctx context.Context, folder, logs string, port int, password string, options ...string) (*child.Program,
	string, error) {
	bin, err := binaries()
	if err != nil {
		return nil, "", err
	}
	data := filepath.Join(folder, "data")
	if err := initialise(ctx, bin, folder, data, password); err != nil {
		return nil, "", err
	}
	args := []string{"-D", data, "-c", "listen_addresses=127.0.0.1", "-c", "port=" + strconv.Itoa(port),
		"-c", "unix_socket_directories=", "-c", "log_statement=none", "-c", "log_min_error_statement=panic", "-c",
		"max_connections=" + strconv.Itoa(maxConnections)}
	for _, o := range options {
		args = append(args, "-c", o)
	}
	cmd := exec.Command(filepath.Join(bin, "postgres"), args...)
	cmd.Env = []string{"LC_ALL=C.UTF-8", "PATH=" + os.Getenv("PATH")}
	cmd.Dir = "/"
	if err := asOwner(cmd); err != nil {
		return nil, "", err
	}
	// SIGINT is PostgreSQL's fast shutdown.
	c, err := child.Start("PostgreSQL", filepath.Join(logs, "postgres.log"), syscall.SIGINT, cmd)
	if err != nil {
		return nil, "", fmt.Errorf("PostgreSQL: %w", err)
	}
	url := fmt.Sprintf("postgres://%s:%s@%s/postgres?sslmode=disable", User, password,
		net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	err = c.Await(ctx, func() bool {
		ctx, cancel := context.WithTimeout(ctx, time.Second)
		defer cancel()
		conn, err := pgx.Connect(ctx, url)
		if err == nil {
			_ = conn.Close(ctx)
		}
		return err == nil
	})
	if err != nil {
		return nil, "", errors.Join(err, c.Stop(syscall.SIGINT))
	}
	return c, url, nil
}

// ServiceRole makes the role that the service connects as, which owns nothing,
// and returns the URL to connect by.
func ServiceRole(ctx context.Context, ownerURL, password string) (string, error) {
	conn, err := pgx.Connect(ctx, ownerURL)
	if err != nil {
		return "", err
	}
	defer conn.Close(ctx)
	role := User + "_service"
	var there bool
	if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM pg_roles WHERE rolname = $1)",
		role).Scan(&there); err != nil {
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

func initialise(ctx context.Context, bin, folder, data, password string) error {
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
		uid, gid, err := systemUser()
		if err != nil {
			return err
		}
		for _, p := range []string{folder, making, pwfile} {
			if err := os.Chown(p, uid, gid); err != nil {
				return err
			}
		}
	}
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), "-D", making, "-U", User, "-A", "scram-sha-256",
		"--pwfile", pwfile, "-E", "UTF8", "--no-locale", "--no-sync")
	cmd.Dir = "/"
	if err := asOwner(cmd); err != nil {
		return err
	}
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("initdb: %w:\n%s", err, out)
	}
	return os.Rename(making, data)
}

func systemUser() (uid, gid int, err error) {
	u, err := user.Lookup("postgres")
	if err != nil {
		return 0, 0, errors.New("there is no user \"postgres\", which Debian's package makes; PostgreSQL refuses " +
			"to run as root")
	}
	uid, err = strconv.Atoi(u.Uid)
	if err != nil {
		return 0, 0, err
	}
	gid, err = strconv.Atoi(u.Gid)
	return uid, gid, err
}
