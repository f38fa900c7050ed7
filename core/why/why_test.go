package why

import (
	"slices"
	"strings"
	"testing"
)

// inOrder is a door that everybody gets through.
func inOrder() Facts {
	const fp = "SHA256:good"
	side := func(from string) *Side {
		return &Side{From: from, Reached: Answers, Said: "SSH-2.0-OpenSSH_9.2p1", HostKey: "SHA256:host",
			Asked: map[string]string{"debian " + fp: Accepted}}
	}
	return Facts{Instance: "berth-board-1", User: "debian", Recorded: "debian", ImageUser: "debian", State: "running",
		Address: "192.0.2.7", Port: 22, CloudAsked: true, CloudState: "running", CloudAddress: "192.0.2.7",
		RulesSeen: true, Rules: []Rule{{"198.51.100.0/24"}}, SeenAs: "198.51.100.4",
		HostKeys: []string{"SHA256:host"}, KeyTypes: []string{"ssh-ed25519"},
		Key: &Key{Name: "night-crew", Fingerprint: fp, Type: "ssh-ed25519"},
		Keys: []Key{{Name: "night-crew", Fingerprint: fp, Before: true},
			{Fingerprint: "SHA256:steward", Steward: true, Before: true, Type: "ssh-ed25519"}},
		Service: side("203.0.113.1"), Here: side("10.0.0.4"), File: &File{Path: "/k"},
		Login: &Login{Tried: true, TookKey: true, Authenticated: true, OptionsKnown: true, SessionTried: true,
			SessionOK: true},
		Inside: Inside{Seen: true, FileSeen: true, HasUsers: true, Shell: "/bin/sh",
			Users: []string{"root", "debian"}, Lines: []Line{{Where: ".ssh/authorized_keys line 1"}}}}
}

// TestTheOutermostIsFirst breaks more than one thing at once: the one that
// stands furthest outside, and is in the way for certain, is first.
func TestTheOutermostIsFirst(t *testing.T) {
	mode := Finding{Code: FileMode, Stage: stageFile, Sentence: "x", Next: "y"}
	refuse := func(f *Facts) {
		f.Here.Asked, f.Service.Asked = map[string]string{"debian SHA256:good": KeyRefusal},
			map[string]string{"debian SHA256:good": KeyRefusal}
		f.Login = &Login{Tried: true}
	}
	for what, c := range map[string]struct {
		change func(*Facts)
		first  Code
		also   []Code
	}{
		"in order": {func(*Facts) {}, "", nil},
		"stopped, and a file too open": {func(f *Facts) {
			f.CloudState, f.File.Findings = "stopped",
				[]Finding{mode}
		}, InstanceStopped, []Code{FileMode}},
		"shut out, and a file too open": {func(f *Facts) {
			f.Here.Reached, f.SeenAs, f.File.Findings = Silent,
				"192.0.2.99", []Finding{mode}
		}, RuleShuts, []Code{FileMode}},
		"silent though admitted": {func(f *Facts) { f.Here.Reached = Silent }, PortSilent, nil},
		"locked, and not in the file": {func(f *Facts) { refuse(f); f.File.Locked, f.Inside.Lines = true, nil },
			KeyNotInFile, []Code{Passphrase}},
		"locked only": {func(f *Facts) { f.File.Locked, f.Login = true, &Login{NotTried: "locked"} }, Passphrase, nil},
		"a .pub of another, and too many keys": {func(f *Facts) {
			f.File.Findings, f.Agent = []Finding{{Code: PubDiffers, Stage: stageFile}},
				&Agent{Before: 9, Relevant: true}
		}, PubDiffers, []Code{TooManyKeys}},
		"expired here, open elsewhere": {func(f *Facts) {
			refuse(f)
			f.Inside.Lines = []Line{{Where: "l",
				Expired: true, Reason: "expired"}}
		}, KeyExpired, nil},
		"everything of the file refused": {func(f *Facts) {
			refuse(f)
			f.Inside = Inside{NotSeen: "refused"}
			f.Service.Asked["debian SHA256:steward"] = KeyRefusal
		}, ServerModes, nil},
		"refused, and nobody sees why": {func(f *Facts) { refuse(f); f.Inside = Inside{NotSeen: "it has no steward"}; f.Keys = f.Keys[:1] }, KeyRefused, nil},
		"two addresses, no stranger":   {func(f *Facts) { f.CloudAddress = "192.0.2.8" }, AddressChanged, nil},
		"a server that could not be asked": {func(f *Facts) {
			f.Here.Asked, f.Service.Asked, f.Here.AskedFailed = nil, nil, "it closed"
			f.Login, f.Inside = &Login{NotTried: "x"}, Inside{}
		}, "", nil},
		"the cloud does not answer": {func(f *Facts) { f.CloudAsked, f.CloudFailed = false, "no answer" }, "",
			nil},
		"no way there from here": {func(f *Facts) {
			f.Here.Reached, f.Here.Said = Unreachable,
				"network is unreachable"
		}, NoAddress, nil},
		"turned away here only": {func(f *Facts) { f.Here.Reached, f.Here.HostKey = Closed, "" },
			Penalised, nil},
		"turned away everywhere": {func(f *Facts) { f.Here.Reached, f.Service.Reached = Closed, Closed },
			TooManyConns, nil},
		"nothing behind the forward": {func(f *Facts) {
			f.Forwarded, f.Here.Reached, f.Service.Reached, f.Here.Said = true, Closed, Closed, ""
		},
			PortClosed, nil},
		"turned away here only, by a forward": {func(f *Facts) { f.Forwarded, f.Here.Reached, f.Here.HostKey = true, Closed, "" },
			Penalised, nil},
		"no rule, yet it answers":           {func(f *Facts) { f.Rules = nil }, "", nil},
		"another kind than the image takes": {func(f *Facts) { f.Key.Type = "ssh-rsa" }, NoAlgorithm, nil},
	} {
		f := inOrder()
		c.change(&f)
		r := Judge(f)
		got := Code("")
		if r.First != nil {
			got = r.First.Code
		}
		var also []Code
		for _, a := range r.Also {
			also = append(also, a.Code)
		}
		if got != c.first || !slices.Equal(also, c.also) {
			t.Errorf("%s: first %q, also %v", what, got, also)
		}
		for _, p := range r.Passed {
			if p.Code == got || slices.Contains(also, p.Code) {
				t.Errorf("%s: %s is wrong and passed", what, p.Code)
			}
		}
	}
}

// TestNotSeenIsNotFine: what nobody looked at is neither passed nor wrong.
func TestNotSeenIsNotFine(t *testing.T) {
	r := Judge(Facts{Instance: "a", User: "debian", Recorded: "debian", State: "running",
		Address: "192.0.2.7", Adopted: true})
	if r.First != nil && r.First.Code != KeyNotInFile || len(r.Passed) > 0 || len(r.NotSeen) < 2 {
		t.Errorf("%+v", r)
	}
	f := inOrder()
	f.CloudAsked, f.CloudFailed, f.Here.Asked, f.Service.Asked, f.Here.AskedFailed, f.Login, f.Inside = false,
		"it is down", nil, nil, "a reset", nil, Inside{}
	r = Judge(f)
	said := strings.Join(r.NotSeen, "\n")
	if !strings.Contains(said, "it is down") || !strings.Contains(said, "a reset") ||
		slices.ContainsFunc(r.Passed, func(p Passed) bool {
			return p.Code == InstanceStopped ||
				p.Code == KeyNotInFile || p.Code == NoShell
		}) {
		t.Errorf("%s %+v", said, r.Passed)
	}
}
