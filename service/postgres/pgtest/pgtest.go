// Package pgtest gives each test a PostgreSQL database of its own: a copy of one that has
// all migrations, in a server that is started once for the test's process. For tests alone.
//
//	func TestMain(m *testing.M) { pgtest.Main(m) }
//
//	func TestSomething(t *testing.T) {
//		s := pgtest.Open(t)
package pgtest

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/url"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5"

	"plumlatch/service/postgres"
	"plumlatch/service/store"
)

var (
	folder string
	once   sync.Once
	owner  string // URL
	failed error
	copies atomic.Int64
	stop   = func() {}
)

const template = "migrated"

// Main runs a package's tests, and stops the server and removes its folder afterwards.
func Main(m *testing.M) {
	code := m.Run()
	stop()
	if folder != "" {
		_ = os.RemoveAll(folder)
	}
	os.Exit(code)
}

// begin starts the server, and makes the database that all are copied from.
func begin() error {
	var err error
	if folder, err = os.MkdirTemp("", "plumlatch-pgtest-"); err != nil {
		return err
	}
	if err := os.Chmod(folder, 0o711); err != nil { // the database's own user passes through it
		return err
	}
	// The port that was free may be another test's by the time the server asks for it.
	url, err := start()
	for tries := 1; err != nil && tries < 5; tries++ {
		url, err = start()
	}
	if err != nil {
		return err
	}
	if err := run(url, "CREATE DATABASE "+template); err != nil {
		return err
	}
	s, err := store.Open(context.Background(), at(url, template), "", 2, slog.New(slog.DiscardHandler))
	if err != nil {
		return err
	}
	owner = url
	return s.Close()
}

// start starts the server on a port that nobody listens on just now, and returns its URL.
func start() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	port := l.Addr().(*net.TCPAddr).Port
	if err := l.Close(); err != nil {
		return "", err
	}
	// Nothing of it is wanted after a crash.
	p, url, err := postgres.Start(context.Background(), folder+"/pg", folder, port, "test", "fsync=off",
		"full_page_writes=off", "synchronous_commit=off")
	if err != nil {
		return "", err
	}
	stop = func() { _ = p.Stop(syscall.SIGINT) }
	return url, nil
}

func run(url, sql string) error {
	c, err := pgx.Connect(context.Background(), url)
	if err != nil {
		return err
	}
	defer c.Close(context.Background())
	_, err = c.Exec(context.Background(), sql)
	return err
}

// at is the URL of another database of the same server.
func at(base, name string) string {
	u, err := url.Parse(base)
	if err != nil {
		panic(err) // we made it
	}
	u.Path = "/" + name
	return u.String()
}

func server(t testing.TB) {
	t.Helper()
	once.Do(func() { failed = begin() })
	if failed != nil {
		t.Fatalf("PostgreSQL for tests: %v", failed)
	}
}

// Empty returns the URL of a database that has nothing in it.
func Empty(t testing.TB) string { return newDatabase(t, "template0") }

// URL returns the URL of a database that has all migrations and no rows.
func URL(t testing.TB) string { return newDatabase(t, template) }

func newDatabase(t testing.TB, from string) string {
	t.Helper()
	server(t)
	name := fmt.Sprintf("test_%d", copies.Add(1))
	if err := run(owner, fmt.Sprintf("CREATE DATABASE %s TEMPLATE %s", name, from)); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = run(owner, "DROP DATABASE "+name+" WITH (FORCE)") })
	return at(owner, name)
}

// Open opens a database that has all migrations and no rows, for one test.
func Open(t testing.TB) *store.Store {
	t.Helper()
	return OpenURL(t, URL(t))
}

// OpenURL opens a database once more, as another replica does.
func OpenURL(t testing.TB, url string) *store.Store {
	t.Helper()
	s, err := store.Open(context.Background(), url, "", 10, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(strings.ReplaceAll(err.Error(), url, "URL"))
	}
	t.Cleanup(func() { _ = s.Close() })
	return s
}

// Connect opens a bare connection, to look at what stands in the tables.
func Connect(t testing.TB, url string) *pgx.Conn {
	t.Helper()
	c, err := pgx.Connect(context.Background(), url)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = c.Close(context.Background()) })
	return c
}
