package main

import (
	"cmp"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/client"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/signin"
	"plumlatch/core/times"
	"plumlatch/core/wire"
)

// signedIn is a service that somebody is signed in to on this machine.
type signedIn struct {
	Name     string    `json:"name"`
	URL      string    `json:"url"`
	Operator string    `json:"operator"`
	Token    string    `json:"token"`
	Ends     time.Time `json:"ends"`
	Default  bool      `json:"default,omitempty"` // the one that is meant where none is named
}

// signInFile is where the tokens of sign-ins lie: below the user's configuration, for nobody else to read.
func signInFile() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("there is no folder for your configuration: %w", err)
	}
	return filepath.Join(dir, "plumlatch", "sign-ins.json"), nil
}

// readSignIns reads them. None is no error; a file that others can read is one.
func readSignIns() ([]signedIn, error) {
	file, err := signInFile()
	if err != nil {
		return nil, nil
	}
	fi, err := os.Stat(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if how, err := othersRead(file, fi); err != nil || how != "" {
		return nil, failure{fmt.Errorf("%s can be read by others (%s), and has tokens in it: it is not used", file,
			cmp.Or(how, "its access list could not be read")), aloneCommand(file) + "; if others had it, plumlatch sign-out -all"}
	}
	data, err := readLimited(file)
	if err != nil {
		return nil, err
	}
	var all []signedIn
	if err := json.Unmarshal(data, &all); err != nil {
		return nil, failure{fmt.Errorf("%s cannot be read as it is", file), "rm " + shellWord(file) + "; plumlatch sign-in URL"}
	}
	return all, nil
}

// writeSignIns replaces the file as a whole.
func writeSignIns(all []signedIn) error {
	file, err := signInFile()
	if err != nil {
		return err
	}
	return writePrivateJSON(file, all)
}

// writePrivateJSON replaces a file of the client's own as a whole; nobody else can read it.
func writePrivateJSON(file string, all any) error {
	if err := makeFolder(filepath.Dir(file)); err != nil {
		return err
	}
	data, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(file), ".new-*")
	if err != nil {
		return err
	}
	if err = ownAlone(f.Name()); err == nil { // before anything stands in it
		_, err = f.Write(append(data, '\n'))
	}
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(f.Name(), file)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return nil
}

// chosenSignIn finds the sign-in that a command uses: by its name, by its URL, or the default one.
func chosenSignIn(name, base string) (signedIn, error) {
	all, err := readSignIns()
	if err != nil {
		return signedIn{}, err
	}
	n := slices.IndexFunc(all, func(s signedIn) bool {
		return name != "" && s.Name == name || name == "" && base != "" && s.URL == base ||
			name == "" && base == "" && s.Default
	})
	switch {
	case n < 0 && name != "":
		var known []string
		for _, s := range all {
			known = append(known, s.Name)
		}
		return signedIn{}, failure{fmt.Errorf("you are signed in to no service called %s", plaintext.Line(name)),
			cmp.Or(strings.Join(known, ", "), "plumlatch sign-in URL -service "+plaintext.Line(name))}
	case n < 0:
		return signedIn{}, failure{errors.New("no service is chosen: nobody is signed in here, and PLUMLATCH_URL and PLUMLATCH_TOKEN are not both set"),
			"plumlatch sign-in URL (the demo: . .demo/client.env)"}
	case !all[n].Ends.After(time.Now()):
		return signedIn{}, failure{fmt.Errorf("your sign-in at %s ended %s", all[n].URL, times.Show(all[n].Ends.Local())),
			"plumlatch sign-in " + all[n].URL + " -operator " + all[n].Operator}
	}
	return all[n], nil
}

func signIn(fs *flag.FlagSet) func(*cli) error {
	operator := fs.String("operator", "", "`name` of the operator (default: your user's name here)")
	identity := fs.String("identity", "", "sign with this private `file`; it is used here and never sent")
	useAgent := fs.Bool("ssh-agent", false, "sign with a key in the running ssh-agent")
	public := fs.String("public", "", "with -ssh-agent: `file or fingerprint` of the key that signs, if there are several")
	passFile := fs.String("passphrase-file", "", "`file` with the passphrase of -identity")
	passwordFile := fs.String("password-file", "", "sign in by the password in this `file`, instead of asking for it")
	asJSON := fs.Bool("json", false, "print JSON, without the token")
	return func(c *cli) error {
		args, err := c.names("URL")
		if err != nil {
			return err
		}
		ways := 0
		for _, given := range []bool{*identity != "", *useAgent, *passwordFile != ""} {
			if given {
				ways++
			}
		}
		if ways > 1 || *public != "" && !*useAgent {
			return usagef("give one of -identity, -ssh-agent (with -public, if need be) and -password-file; none of them asks for a password")
		}
		base := strings.TrimRight(args[0], "/")
		service, err := client.New(base, "")
		if err != nil {
			return usageError{err.Error()}
		}
		who := cmp.Or(*operator, localUser())
		if err := names.Check(who); err != nil {
			return usagef("-operator: %v", err)
		}
		var s wire.Session
		switch {
		case *identity != "" || *useAgent:
			signer, err := c.signInSigner(*identity, *passFile, *public)
			if err != nil {
				return err
			}
			s, err = service.SignInByKey(c.ctx, who, keypair.Fingerprint(signer.PublicKey().Marshal()), func(text []byte) ([]byte, error) {
				return keypair.Sign(signer, signin.Namespace, text)
			})
			if err != nil {
				return err
			}
		default:
			password, err := c.signInPassword(*passwordFile, who, base)
			if err != nil {
				return err
			}
			if s, err = service.SignInByPassword(c.ctx, who, string(password)); err != nil {
				return err
			}
			clear(password)
		}
		u, err := url.Parse(base)
		if err != nil {
			return err
		}
		mine := signedIn{Name: cmp.Or(c.chosen, u.Host), URL: base, Operator: s.Name, Token: s.Token, Ends: s.ExpiresAt, Default: true}
		all, err := readSignIns()
		if err != nil {
			return errors.Join(err, endSession(c, mine))
		}
		all = slices.DeleteFunc(all, func(o signedIn) bool { return o.Name == mine.Name || !o.Ends.After(time.Now()) })
		for n := range all {
			all[n].Default = false
		}
		if err := writeSignIns(append(all, mine)); err != nil {
			return errors.Join(err, endSession(c, mine))
		}
		if *asJSON {
			mine.Token = ""
			return c.json(mine)
		}
		fmt.Fprintf(c.out, "Signed in at %s as %s, %s, until %s.\n", base, s.Name, s.Role, times.Show(s.ExpiresAt.Local()))
		if os.Getenv("PLUMLATCH_URL") != "" || os.Getenv("PLUMLATCH_TOKEN") != "" {
			fmt.Fprintln(c.out, "PLUMLATCH_URL or PLUMLATCH_TOKEN is set, and still wins: unset them to use this sign-in.")
		}
		fmt.Fprintln(c.out, "next: plumlatch today; plumlatch sign-out ends it")
		return nil
	}
}

// signInSigner is the key that signs in: a file, or one of the agent's.
func (c *cli) signInSigner(identity, passFile, public string) (ssh.Signer, error) {
	if identity != "" {
		_, signer, err := c.fileSigner(identity, passFile)
		return signer, err
	}
	if public != "" {
		fingerprint := public
		if p, is, err := keypair.ParsePrint(public); is && err == nil && p.Changes() {
			fingerprint = p.Text
		} else if data, err := readLimited(public); err == nil {
			p, err := keypair.ReadPublic(data)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", public, err)
			}
			fingerprint = p.Fingerprint()
		} else {
			return nil, err
		}
		return agentSigner(fingerprint)
	}
	all, err := agentSigners()
	if err != nil {
		return nil, err
	}
	switch len(all) {
	case 0:
		return nil, failure{errors.New("the ssh-agent has no key"), "ssh-add FILE"}
	case 1:
		return all[0], nil
	}
	var have []string
	for _, s := range all {
		have = append(have, keypair.Fingerprint(s.PublicKey().Marshal()))
	}
	return nil, failure{fmt.Errorf("the ssh-agent has %d keys: %s", len(all), strings.Join(have, ", ")),
		"the same command with -public FILE or FINGERPRINT"}
}

// signInPassword reads the operator's password from a file, or asks for it.
func (c *cli) signInPassword(file, operator, base string) ([]byte, error) {
	if file != "" {
		return readPassphrase(file, "-password-file")
	}
	if !c.tty {
		return nil, failure{errors.New("a password is asked for on a terminal, and there is none"),
			"the same command with -identity FILE, -ssh-agent or -password-file FILE"}
	}
	return c.ask(fmt.Sprintf("Password of %s at %s (nothing shows while you type): ", operator, base))
}

// endSession ends a session that cannot be kept here.
func endSession(c *cli, s signedIn) error {
	service, err := client.New(s.URL, s.Token)
	if err != nil {
		return err
	}
	return service.SignOut(c.ctx)
}

func signOut(fs *flag.FlagSet) func(*cli) error {
	every := fs.Bool("all", false, "of all services that you are signed in to here")
	return func(c *cli) error {
		if _, err := c.names(); err != nil {
			return err
		}
		all, err := readSignIns()
		if err != nil {
			return err
		}
		var left, out []signedIn
		for _, s := range all {
			if *every || c.chosen != "" && s.Name == c.chosen || c.chosen == "" && s.Default {
				out = append(out, s)
			} else {
				left = append(left, s)
			}
		}
		if len(out) == 0 {
			return failure{errors.New("you are not signed in there"), "plumlatch sign-in URL"}
		}
		var errs []error
		for _, s := range out {
			err := endSession(c, s)
			if p, ok := errors.AsType[*client.Problem](err); ok && p.Status == 401 {
				err = nil // it is over already
			}
			if err != nil {
				errs = append(errs, fmt.Errorf("%s: the token is forgotten here, and the service was not told, so that it is good until %s: %w",
					s.Name, times.Show(s.Ends.Local()), err))
				continue
			}
			fmt.Fprintf(c.out, "Signed out of %s.\n", s.URL)
		}
		if len(left) > 0 && !slices.ContainsFunc(left, func(s signedIn) bool { return s.Default }) {
			left[len(left)-1].Default = true
			fmt.Fprintf(c.out, "Commands go to %s from now on.\n", left[len(left)-1].URL)
		}
		return errors.Join(append(errs, writeSignIns(left))...)
	}
}

// openConsole opens the console in a browser, signed in.
func openConsole(fs *flag.FlagSet) func(*cli) error {
	show := fs.Bool("print", false, "print the address instead of opening it")
	return func(c *cli) error {
		_, service, err := c.begin()
		if err != nil {
			return err
		}
		code, err := service.ConsoleCode(c.ctx)
		if p, ok := errors.AsType[*client.Problem](err); ok && p.Of("conflict") {
			return failure{err, "plumlatch sign-in " + service.URL() + "; or open " + service.URL() + " and sign in there"}
		}
		if err != nil {
			return err
		}
		// In the fragment, which no server and no log ever sees.
		page := service.URL() + "/#code=" + url.QueryEscape(code.Code)
		opener := map[string][]string{"darwin": {"open"}, "windows": {"rundll32", "url.dll,FileProtocolHandler"}}[runtime.GOOS]
		if opener == nil {
			opener = []string{"xdg-open"}
		}
		if !*show {
			if err := exec.CommandContext(c.ctx, opener[0], append(opener[1:], page)...).Run(); err == nil {
				fmt.Fprintf(c.out, "The console opens in your browser, signed in.\n")
				return nil
			}
			fmt.Fprintln(c.err, "No browser could be opened here. Open this address on this machine:")
		}
		fmt.Fprintf(c.out, "%s\n", page)
		fmt.Fprintf(c.err, "It is good once, until %s, and signs whoever opens it on this machine in as you.\n",
			times.ShowLong(code.ExpiresAt.Local()))
		return nil
	}
}
