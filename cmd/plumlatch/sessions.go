package main

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"plumlatch/core/hostkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/core/savedsessions"
	"plumlatch/core/sshconfig"
)

// writeSessions writes saved sessions for the Windows client that reads PPK files: of each instance that
// a PPK file of the key folder opens, with the host keys that are pinned here.
func (c *cli) writeSessions(p *hostsPlan, file string, quiet bool) error {
	var all []savedsessions.Session
	for _, h := range p.hosts {
		if !slices.ContainsFunc(p.sessions, func(s sshconfig.Host) bool { return s.Name == h.Name }) {
			fmt.Fprintf(c.err, "no session for %s: its key is in no PPK file; plumlatch key convert %s -format ppk -out %s.ppk\n",
				h.Name, shellWord(h.IdentityFile), shellWord(h.IdentityFile))
		}
	}
	for _, h := range p.sessions {
		leave := func(why string) { fmt.Fprintf(c.err, "no session for %s: %s\n", h.Name, plaintext.Line(why)) }
		s := savedsessions.Session{Name: h.Name, Address: h.Address, Port: h.Port, User: h.User, KeyFile: h.IdentityFile}
		pinned := p.pins.Pinned(hostkeys.Owner(p.service, h.Name, ""), h.Alias)
		for _, k := range p.known[h.Name] {
			if slices.Contains(pinned, k.Fingerprint()) {
				s.HostKeys = append(s.HostKeys, k)
			}
		}
		switch err := s.Check(); {
		case h.Hop != nil:
			leave("it stands behind a jump host; plumlatch open gets there")
		case err != nil:
			leave(err.Error())
		default:
			all = append(all, s)
		}
	}
	if len(p.hosts) == 0 && len(p.sessions) == 0 {
		return failure{errors.New("no session was written: no private file of that folder opens an instance"),
			"plumlatch hosts write -sessions FILE -dir FOLDER"}
	}
	if len(all) == 0 {
		return failure{errors.New("no session was written: see above"), "plumlatch key convert FILE -format ppk -out FILE.ppk"}
	}
	data, err := savedsessions.Render(all)
	if err != nil {
		return err
	}
	if err := writeNew(file, data, 0o600); err != nil {
		if errors.Is(err, fs.ErrExist) {
			return failure{fmt.Errorf("%s exists, and is not overwritten", file), "choose another file with -sessions"}
		}
		return err
	}
	if !quiet {
		fmt.Fprintf(c.out, "%s has %s, named %sNAME.\nnext, on Windows: reg import %s\n", file, count(len(all), "session"),
			savedsessions.Prefix, shellWord(filepath.Base(file)))
	}
	return nil
}

// ppkFiles are the PPK files of a folder, by the fingerprint of their key.
func ppkFiles(dir string) (map[string]string, error) {
	out := map[string]string{}
	entries, err := readKeyDir(dir)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if !strings.EqualFold(filepath.Ext(e.Name()), ".ppk") || !e.Type().IsRegular() {
			continue
		}
		file := filepath.Join(dir, e.Name())
		data, err := readLimited(file)
		if err != nil {
			continue
		}
		if p, err := keypair.PublicOfPrivate(data); err == nil {
			out[p.Fingerprint()] = file
		}
	}
	return out, nil
}
