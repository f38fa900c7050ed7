package main

import (
	"errors"
	"flag"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"
)

// config is what the service is started with.
type config struct {
	listen       string
	databaseURL  string
	databaseFile string
	ownerURL     string
	ownerFile    string
	identityFile string
	journalKey   string
	cloudURL     string
	cloudToken   string // file
	tlsCert      string
	tlsKey       string
	allowHosts   string
	dialFrom     string
	dialLoopback bool
	logFormat    string
	pprofListen  string
	agentListen  string
	agentAddress string
	agentProgram string
	keybook      string
	keybookAs    string
	libvirtFile  string
	lease        time.Duration
	stateLimit   time.Duration
	follow       time.Duration
	connections  int
	surveys      int
}

func (c *config) flags(fs *flag.FlagSet) {
	fs.StringVar(&c.listen, "listen", "127.0.0.1:8470",
		"`address` to listen on; one that is not loopback needs TLS files")
	fs.StringVar(&c.databaseFile, "database-url-file", "",
		"`file` with the PostgreSQL URL, mode 0600 (or PLUMLATCHD_DATABASE_URL)")
	fs.StringVar(&c.ownerFile, "owner-url-file", "",
		"`file` with the PostgreSQL URL of the tables' owner, mode 0600 (or PLUMLATCHD_OWNER_URL): it makes the "+
			"migrations, and the service's own role cannot rewrite the journal")
	fs.StringVar(&c.journalKey, "journal-key-file", "",
		"`file` with the key that signs the journal's heads; made at the first start, the same for all replicas "+
			"(default: beside the identity file)")
	fs.IntVar(&c.surveys, "surveys", 8, "how many instances are surveyed at one time by the service itself; 0: none")
	fs.StringVar(&c.identityFile, "identity-file", "",
		"`file` with the age identity that encrypts steward keys; made at the first start (needed)")
	fs.StringVar(&c.cloudURL, "standin-url", "", "`URL` of the stand-in cloud (it or -libvirt is needed)")
	fs.StringVar(&c.cloudToken, "standin-token-file", "", "`file` with the stand-in cloud's token")
	fs.StringVar(&c.libvirtFile, "libvirt", "",
		"YAML `file` that says which libvirt hosts are a cloud of this service, besides the stand-in or alone: docs/libvirt.md; it goes with -dial-loopback")
	fs.StringVar(&c.tlsCert, "tls-cert", "", "`file` with the TLS certificate chain, PEM")
	fs.StringVar(&c.tlsKey, "tls-key", "", "`file` with the TLS key, PEM")
	fs.StringVar(&c.allowHosts, "allow-host", "",
		"further host[:port] `values`, comma-separated, that the service answers to")
	fs.StringVar(&c.dialFrom, "dial-from", "", "`address` to dial instances from")
	fs.BoolVar(&c.dialLoopback, "dial-loopback", false, "allow dialling loopback addresses, for a stand-in cloud")
	fs.DurationVar(&c.lease, "lease", 15*time.Second,
		"how long a claim on a piece of work lasts unless renewed; the same for all replicas on one database")
	fs.DurationVar(&c.stateLimit, "state-limit", 5*time.Minute,
		"how long an instance may take to reach a state in its cloud")
	fs.DurationVar(&c.follow, "follow", 30*time.Second,
		"how often the cloud is asked what has changed without us; negative: never")
	fs.IntVar(&c.connections, "database-connections", 16, "how many connections to the database are open at most")
	fs.StringVar(&c.pprofListen, "pprof-listen", "",
		"loopback `address` to serve the profiles of net/http/pprof on, to whoever is on this machine; off unless "+
			"it is given")
	fs.StringVar(&c.agentListen, "agent-listen", "", "`address` to listen on for the agents of instances; no agents unless it is given")
	fs.StringVar(&c.agentAddress, "agent-address", "", "`HOST:PORT` that instances dial for that (default: -agent-listen)")
	fs.StringVar(&c.agentProgram, "agent-program", "", "`file` of the agent's executable, which instances launched with an agent fetch at first boot (default: "+
		"plumlatch-agent beside this program, if it is there)")
	fs.StringVar(&c.keybook, "keybook", "", "a keybook on this disk, a `file or folder`: it is compared whenever it changes, and what differs stands on today")
	fs.StringVar(&c.keybookAs, "keybook-as", "", "settle it by itself, under this `operator`'s name and role, if an operator has signed the text")
	fs.StringVar(&c.logFormat, "log-format", "text", "`format` of the log: text or json")
}

const envPrefix = "PLUMLATCHD_"

// load reads the options: a flag wins over the environment (PLUMLATCHD_LISTEN
// for -listen), and that over the YAML file of -config (listen: ...).
func (c *config) load(fs *flag.FlagSet, args []string, env func(string) (string, bool)) error {
	c.flags(fs)
	file := fs.String("config", "", "YAML `file` with any of these options, named as here")
	if err := fs.Parse(args); err != nil {
		return err
	}
	if fs.NArg() > 0 {
		return fmt.Errorf("unexpected argument %q; %s takes options only", fs.Arg(0), fs.Name())
	}
	if v, ok := env(envPrefix + "CONFIG"); ok && *file == "" {
		*file = v
	}
	given := map[string]bool{}
	fs.Visit(func(f *flag.Flag) { given[f.Name] = true })
	values := map[string]string{}
	if *file != "" {
		data, err := os.ReadFile(*file)
		if err != nil {
			return err
		}
		if err := yaml.Unmarshal(data, &values); err != nil {
			return fmt.Errorf("%s: it is no YAML mapping of option to value", *file)
		}
		for name := range values {
			if name == "config" || fs.Lookup(name) == nil {
				return fmt.Errorf("%s: there is no option %q; -help lists them", *file, name)
			}
		}
	}
	var err error
	fs.VisitAll(func(f *flag.Flag) {
		if given[f.Name] || f.Name == "config" {
			return
		}
		v, ok := env(envPrefix + strings.ToUpper(strings.ReplaceAll(f.Name, "-", "_")))
		if !ok {
			v, ok = values[f.Name]
		}
		if ok {
			if e := fs.Set(f.Name, v); e != nil {
				err = errors.Join(err, fmt.Errorf("option %s: the value is not valid", f.Name))
			}
		}
	})
	if v, ok := env(envPrefix + "DATABASE_URL"); ok {
		c.databaseURL = v
	}
	if v, ok := env(envPrefix + "OWNER_URL"); ok {
		c.ownerURL = v
	}
	return errors.Join(err, c.check())
}

func (c *config) check() error {
	if c.databaseURL == "" && c.databaseFile != "" {
		data, err := os.ReadFile(c.databaseFile)
		if err != nil {
			return err
		}
		c.databaseURL = strings.TrimSpace(string(data))
	}
	if c.ownerURL == "" && c.ownerFile != "" {
		data, err := os.ReadFile(c.ownerFile)
		if err != nil {
			return err
		}
		c.ownerURL = strings.TrimSpace(string(data))
	}
	if c.agentProgram == "" && c.agentListen != "" {
		c.agentProgram = besideThis("plumlatch-agent")
	}
	if c.agentAddress == "" {
		c.agentAddress = c.agentListen
	}
	if c.agentListen != "" {
		if host, _, err := net.SplitHostPort(c.agentAddress); err != nil || host == "" {
			return errors.New("option agent-address: give HOST:PORT that instances can dial")
		}
	} else if c.agentAddress != "" {
		return errors.New("option agent-address goes with -agent-listen")
	}
	if c.keybookAs != "" && c.keybook == "" {
		return errors.New("option keybook-as goes with -keybook")
	}
	if c.surveys < 0 || c.surveys > 256 {
		return errors.New("option surveys: give 0 to 256")
	}
	needed := map[string]string{"database-url-file": c.databaseURL, "identity-file": c.identityFile}
	if c.libvirtFile == "" || c.cloudURL != "" || c.cloudToken != "" {
		needed["standin-url"], needed["standin-token-file"] = c.cloudURL, c.cloudToken
	}
	if c.libvirtFile != "" && !c.dialLoopback {
		return errors.New("option libvirt goes with -dial-loopback: its machines are reached at loopback addresses")
	}
	for name, v := range needed {
		if v == "" {
			return fmt.Errorf("option %s is missing; -help lists the options", name)
		}
	}
	if c.logFormat != "text" && c.logFormat != "json" {
		return errors.New("option log-format: give text or json")
	}
	if c.lease < time.Second || c.lease > 10*time.Minute {
		return errors.New("option lease: give 1s to 10m")
	}
	if c.connections < 2 {
		return errors.New("option database-connections: give 2 or more")
	}
	if c.stateLimit < time.Second {
		return errors.New("option state-limit: give 1s or more")
	}
	if c.pprofListen != "" {
		if a, err := netip.ParseAddrPort(c.pprofListen); err != nil || !a.Addr().IsLoopback() {
			return fmt.Errorf("option pprof-listen: %q is no loopback address; give one such as 127.0.0.1:6060",
				c.pprofListen)
		}
	}
	return c.checkListen()
}

// checkListen refuses to serve passwords and tokens in the clear to a network.
func (c *config) checkListen() error {
	host, _, err := net.SplitHostPort(c.listen)
	if err != nil {
		return fmt.Errorf("option listen: %q is no address; give one such as 127.0.0.1:8470", c.listen)
	}
	a, err := netip.ParseAddr(host)
	if err != nil {
		return fmt.Errorf("option listen: give an IP address, not %q", host)
	}
	if (c.tlsCert == "") != (c.tlsKey == "") {
		return errors.New("options tls-cert and tls-key go together")
	}
	if !a.IsLoopback() && c.tlsCert == "" {
		return fmt.Errorf("option listen: %s is not loopback, and there are no TLS files: passwords and tokens "+
			"would cross a network in the clear; give -tls-cert and -tls-key", c.listen)
	}
	return nil
}

// besideThis is a program in the folder of this one; "" if it is not there.
func besideThis(name string) string {
	self, err := os.Executable()
	if err != nil {
		return ""
	}
	file := filepath.Join(filepath.Dir(self), name)
	if _, err := os.Stat(file); err != nil {
		return ""
	}
	return file
}
