package main

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"plumlatch/service"
	"plumlatch/service/api"
	"plumlatch/service/child"
	"plumlatch/service/cloud/libvirt/ownhost"
	"plumlatch/service/postgres"
	"plumlatch/service/store"
)

// demoRun is one run of the demo: PostgreSQL, the stand-in cloud and the
// service, all on loopback, with their data in one folder.
type demoRun struct {
	folder  string
	holders string
	port    int // of the service; the stand-in and PostgreSQL have the next two
	net     netip.Prefix
	seed    bool
	follow  time.Duration
	surveys int
	log     *slog.Logger

	vm string // the image of the real machines; "" for none

	postgres, standin *child.Program
	host              *ownhost.Host // of the real machines; nil for none
	service           *service.Service
	lock              *os.File
}

func demo(ctx context.Context, args []string) (err error) {
	fs := flag.NewFlagSet("demo", flag.ContinueOnError)
	d := &demoRun{}
	fs.StringVar(&d.folder, "dir", ".demo", "`folder` with everything that the demo keeps")
	fs.StringVar(&d.holders, "holders", "demo-holders", "`folder` in which the demo's people keep their private halves")
	fs.IntVar(&d.port, "port", 8470, "`port` of the service on 127.0.0.1; the next two are the stand-in's and "+
		"PostgreSQL's")
	block := fs.String("net", "127.31.0.0/16", "`block` of 127.0.0.0/8 for the instances' addresses")
	fs.DurationVar(&d.follow, "follow", 30*time.Second,
		"how often the cloud is asked what has changed without us; negative: never")
	fs.IntVar(&d.surveys, "surveys", 8, "how many instances are surveyed at one time by the service itself; 0: none")
	fs.StringVar(&d.vm, "vm", "", "`image` file that two real machines are launched from, on a libvirtd of the demo's own: \"make demo-vm\"")
	fs.BoolVar(&d.seed, "seed", true, "fill an empty demo with the ferry line's keys and instances")
	if err := fs.Parse(args); err != nil {
		return err
	}
	if fs.NArg() > 0 {
		return fmt.Errorf("unexpected argument %q; demo takes options only", fs.Arg(0))
	}
	if d.net, err = netip.ParsePrefix(*block); err != nil || !d.net.Addr().Is4() || !d.net.Addr().IsLoopback() ||
		d.net.Bits() > 20 {
		return fmt.Errorf("-net %q: give a block of 127.0.0.0/8 of /20 or larger, such as 127.31.0.0/16", *block)
	}
	if d.port < 1 || d.port > 65533 {
		return fmt.Errorf("-port %d: give a port from 1 to 65533", d.port)
	}
	if d.folder, err = filepath.Abs(d.folder); err != nil {
		return err
	}
	if d.holders, err = filepath.Abs(d.holders); err != nil {
		return err
	}
	defer func() { err = errors.Join(err, d.stop()) }()
	if err := d.start(ctx); err != nil {
		if ctx.Err() != nil {
			return errors.New("stopped while starting; the next start goes on")
		}
		return err
	}
	select {
	case <-ctx.Done():
		fmt.Println("\nStopping; the next \"make demo\" goes on with the same data.")
		return nil
	case err := <-d.service.Failed():
		return err
	case <-d.postgres.Done:
		return fmt.Errorf("PostgreSQL ended by itself (%v); its log is %s", d.postgres.Status(), d.postgres.Log)
	case <-d.standin.Done:
		return fmt.Errorf("the stand-in cloud ended by itself (%v); its log is %s", d.standin.Status(), d.standin.Log)
	}
}

func (d *demoRun) path(parts ...string) string {
	return filepath.Join(append([]string{d.folder}, parts...)...)
}

func (d *demoRun) start(ctx context.Context) error {
	for _, dir := range []string{"", "log", "service", "standin", "postgres"} {
		if err := os.MkdirAll(d.path(dir), 0o700); err != nil {
			return err
		}
	}
	if err := os.Chmod(d.folder, 0o700); err != nil {
		return err
	}
	if err := d.takeLock(); err != nil {
		return err
	}
	if err := d.portsFree(); err != nil {
		return err
	}
	logFile, err := os.OpenFile(d.path("log", "service.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	d.log = newLog(logFile, "text")
	password, err := d.secretFile("postgres-password", randomHex)
	if err != nil {
		return err
	}
	var url string
	if d.postgres, url, err = postgres.Start(ctx, d.path("postgres"), d.path("log"), d.port+2, password); err != nil {
		return err
	}
	own, err := d.secretFile("postgres-service-password", randomHex)
	if err != nil {
		return err
	}
	serviceURL, err := postgres.ServiceRole(ctx, url, own)
	if err != nil {
		return err
	}
	for name, u := range map[string]string{"database-url": serviceURL, "owner-url": url} {
		if err := os.WriteFile(d.path(name), []byte(u+"\n"), 0o600); err != nil {
			return err
		}
	}
	if err := d.startStandin(ctx); err != nil {
		return err
	}
	hosts := ""
	if d.vm != "" {
		if hosts, err = d.startHost(ctx); err != nil {
			return err
		}
	}
	c := config{
		libvirtFile: hosts, listen: d.address(0), databaseURL: serviceURL, ownerURL: url, identityFile: d.path("service", "identity.txt"),
		cloudURL: "http://" + d.address(1), cloudToken: d.path("standin-token"),
		dialFrom: d.dialFrom(), dialLoopback: true, agentListen: d.address(3), agentAddress: d.address(3), agentProgram: besideThis("plumlatch-agent"),
		// one replica: a short lease goes on soon after a kill
		lease: 3 * time.Second, stateLimit: 5 * time.Minute, follow: d.follow, surveys: d.surveys, connections: 16,
	}
	if d.service, err = startService(ctx, c, d.log); err != nil {
		return err
	}
	consolePassword, err := d.operator(ctx)
	if err != nil {
		return err
	}
	if _, err := os.Stat(d.path("seeded")); d.seed && err != nil {
		fmt.Println("Filling the demo with Harrow Sound Ferries: keys and instances ...")
		if err := d.seedAll(ctx); err != nil {
			return fmt.Errorf("filling the demo: %w", err)
		}
	}
	if d.vm != "" {
		if err := d.launchVMs(ctx); err != nil {
			return err
		}
	}
	d.announce(consolePassword)
	return nil
}

// dialFrom is the service's own address in the block.
func (d *demoRun) dialFrom() string { return d.net.Masked().Addr().Next().Next().String() }

func (d *demoRun) address(offset int) string {
	return net.JoinHostPort("127.0.0.1", strconv.Itoa(d.port+offset))
}

// takeLock keeps a second demo out of the folder.
func (d *demoRun) takeLock() error {
	f, err := os.OpenFile(d.path("lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		return fmt.Errorf("another demo runs in %s; stop it first, or give this one a folder of its own", d.folder)
	}
	d.lock = f
	return nil
}

func (d *demoRun) portsFree() error {
	for i, what := range []string{"the service", "the stand-in cloud", "PostgreSQL", "the service for agents"} {
		l, err := net.Listen("tcp", d.address(i))
		if err != nil {
			return fmt.Errorf("%s is taken, which %s needs; PORT=%d make demo uses other ports", d.address(i),
				what, d.port+100)
		}
		l.Close()
	}
	return nil
}

// secretFile returns the random secret that lies in a file, made at first use.
func (d *demoRun) secretFile(name string, make func() string) (string, error) {
	data, err := os.ReadFile(d.path(name))
	if err == nil {
		return strings.TrimSpace(string(data)), nil
	}
	if !errors.Is(err, os.ErrNotExist) {
		return "", err
	}
	s := make()
	return s, os.WriteFile(d.path(name), []byte(s+"\n"), 0o600)
}

func randomHex() string {
	b := make([]byte, 24)
	_, _ = rand.Read(b) // never fails
	return hex.EncodeToString(b)
}

func (d *demoRun) startStandin(ctx context.Context) error {
	token, err := d.secretFile("standin-token", randomHex)
	if err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	cmd := exec.Command(filepath.Join(filepath.Dir(self), "plumlatch-standin"), "-listen", d.address(1), "-folder",
		d.path("standin"),
		"-net", d.net.String(), "-admit", "127.0.0.1/32,"+d.dialFrom()+"/32", "-strangers", "-token-file",
		d.path("standin-token"))
	if d.standin, err = child.Start("the stand-in cloud", d.path("log", "standin.log"), syscall.SIGTERM,
		cmd); err != nil {
		d.standin = nil
		return fmt.Errorf("the stand-in cloud: %w; \"make build\" builds it", err)
	}
	stay := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	return d.standin.Await(ctx, func() bool {
		req, err := http.NewRequestWithContext(ctx, "GET", "http://"+d.address(1)+"/v1/regions", nil)
		if err != nil {
			return false
		}
		req.Header.Set("Authorization", "Bearer "+token)
		resp, err := stay.Do(req)
		if err != nil {
			return false
		}
		resp.Body.Close()
		return resp.StatusCode == http.StatusOK
	})
}

const (
	demoOperator = "harbour-lead"
	tokenLife    = 365 * 24 * time.Hour
)

// operator makes the demo's admin at the first start, with a password and a
// token, and writes client.env.
func (d *demoRun) operator(ctx context.Context) (password string, err error) {
	password, err = d.secretFile("console-password", api.NewPassword)
	if err != nil {
		return "", err
	}
	db := d.service.Store()
	if _, _, err := db.PasswordHash(ctx, demoOperator); errors.Is(err, store.ErrNotFound) {
		if err := db.AddOperator(ctx, store.Service, demoOperator, store.Admin,
			api.HashPassword(password)); err != nil {
			return "", err
		}
	} else if err != nil {
		return "", err
	}
	o, _, err := db.PasswordHash(ctx, demoOperator)
	if err != nil {
		return "", err
	}
	token, err := d.secretFile("client-token", randomHex)
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256([]byte(token))
	if _, err := db.TokenOperator(ctx, sum[:], "127.0.0.1"); errors.Is(err, store.ErrNotFound) {
		_, err = db.AddToken(ctx, store.Service,
			store.NewToken{OperatorID: o.ID, Name: "demo", Role: store.Admin, SHA256: sum[:],
				Expires: time.Now().Add(tokenLife)})
		if err != nil {
			return "", err
		}
	} else if err != nil {
		return "", fmt.Errorf("the demo's token: %w; \"make demo-reset\" begins anew", err)
	}
	env := fmt.Sprintf("export PLUMLATCH_URL=http://%s\nexport PLUMLATCH_TOKEN=%s\nexport PLUMLATCH_STATE=%s\n",
		d.address(0), token, d.path("client"))
	return password, os.WriteFile(d.path("client.env"), []byte(env), 0o600)
}

func (d *demoRun) announce(password string) {
	fmt.Printf(`
Plum Latch, with the demo data of Harrow Sound Ferries

  console    http://%s
  sign in    %s, password %s
  client     . %s
             bin/plumlatch instance list
  logs       %s

The demo's people keep their private halves in %s.
Ctrl-C stops everything; the next start goes on with the same data.
`, d.address(0), demoOperator, password, relative(d.path("client.env")), relative(d.path("log")), relative(d.holders))
}

// relative shortens a path below the current folder.
func relative(p string) string {
	wd, err := os.Getwd()
	if err != nil {
		return p
	}
	if r, err := filepath.Rel(wd, p); err == nil && !strings.HasPrefix(r, "..") {
		return r
	}
	return p
}

// stop ends what was started, the last first.
func (d *demoRun) stop() error {
	var err error
	if d.service != nil {
		err = errors.Join(err, d.service.Close())
	}
	err = errors.Join(err, d.stopHost())
	if d.standin != nil {
		err = errors.Join(err, d.standin.Stop(syscall.SIGTERM))
	}
	if d.postgres != nil {
		err = errors.Join(err, d.postgres.Stop(syscall.SIGINT))
	}
	if d.lock != nil {
		err = errors.Join(err, d.lock.Close())
	}
	return err
}
