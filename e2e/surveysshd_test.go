package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"plumlatch/core/keypair"
	"plumlatch/core/wire"
)

// lastOf is the last survey of one sort, as it is kept.
func (d *demo) lastOf(t *testing.T, name, sort string) (out struct {
	wire.LastSurvey
	Report json.RawMessage `json:"report"`
}) {
	t.Helper()
	var all struct{ Items []json.RawMessage }
	mustDo(t, json.Unmarshal([]byte(d.api(t, "GET", "/api/v1/instances/"+name+"/surveys", "").body), &all))
	for _, raw := range all.Items {
		mustDo(t, json.Unmarshal(raw, &out))
		if out.Sort == sort {
			return out
		}
	}
	t.Fatalf("no survey of the sort %s", sort)
	return out
}

// TestSurveySSHD: a stock sshd, an ordinary account without sudo; options, ends,
// from, two files, a hand edit with the real ssh.
func TestSurveySSHD(t *testing.T) {
	t.Parallel()
	a := startAdoptee(t, "")
	d := newHome(t, shared)
	name := fmt.Sprintf("real-door-%d", a.port)
	d.must(t, a.args(name, "-record", name+"-key")...)
	s := d.surveyOf(t, name)
	got := map[string]wire.Surveyed{}
	for _, k := range s.Keys {
		got[k.Comment] = k
	}
	for comment, want := range map[string][2]string{"engineer@desk": {"recorded", ""},
		"backup job": {"unrecorded", "command"}, "bridge": {"unrecorded", "from"},
		"last, without a newline": {"unrecorded", ""}} {
		if k := got[comment]; k.Result != want[0] || k.Limits != want[1] || k.File != ".ssh/authorized_keys" {
			t.Errorf("%s: %+v", comment, k)
		}
	}
	if len(s.Broken) != 1 || len(s.Ignored) != 0 {
		t.Errorf("broken %q, ignored %q", s.Broken, s.Ignored)
	}

	// By hand, with the real ssh and "echo >>".
	visitor := strings.Join(strings.Fields(newPublic(t))[:2], " ")
	known := writeFile(t, a.hostKeyLine())
	byHand := func(command string) {
		t.Helper()
		out, err := exec.Command("ssh", "-F", "none", "-o", "BatchMode=yes", "-o", "IdentitiesOnly=yes", "-o",
			"UserKnownHostsFile="+known, "-i", a.identity, "-p", fmt.Sprint(a.port), a.user+"@127.0.0.1",
			command).CombinedOutput()
		if err != nil {
			t.Fatalf("%s: %v %s", command, err, out)
		}
	}
	byHand("echo >> .ssh/authorized_keys; echo '" + visitor + " visitor' >> .ssh/authorized_keys; echo '" + visitor +
		" again' >> .ssh/authorized_keys2")
	s = d.surveyOf(t, name, "-inside", "-outside")
	var found wire.Surveyed
	for _, k := range s.Keys {
		if k.Comment == "visitor" {
			found = k
		}
	}
	if found.Result != "unrecorded" || found.Lines != 2 || len(s.Files) != 2 {
		t.Errorf("a hand edit in two files: %+v, %q", found, s.Files)
	}
	answers := map[string]string{}
	for _, x := range s.Outside.Answers {
		answers[x.Key] = x.Answer
	}
	if answers[name+"-key"] != "accepted" || answers[""] != "accepted" || len(s.Outside.Methods) != 2 ||
		!strings.Contains(strings.Join(s.Outside.Methods[0].Methods, " "), "publickey") {
		t.Errorf("from outside: %+v", s.Outside)
	}
	contains(t, "what nobody could see", strings.Join(append(s.NotSeen, s.Outside.NotSeen...), "\n"),
		"other users' files", "no cloud of ours is behind it")
	has(t, "today", d.reasonsOf(t, "instance", name), "unrecorded-key", true)

	// An end that has come: the server refuses it, and so says the survey.
	d.must(t, "access", "record", name, found.Fingerprint, "-as", name+"-visitor")
	byHand(`for f in .ssh/authorized_keys .ssh/authorized_keys2; do sed -i 's#^` + visitor +
		`#expiry-time="20200101Z" &#' $f; done`)
	s = d.surveyOf(t, name, "-inside", "-outside")
	if got := results(s)[name+"-visitor"]; got != "expired" {
		t.Errorf("after its end: %q", got)
	}
	for _, x := range s.Outside.Answers {
		if x.Key == name+"-visitor" && x.Answer != "refused" {
			t.Errorf("the server says %q of it", x.Answer)
		}
	}
	// In a second file without an end: taken again (the first line that allows it counts).
	byHand(`sed -i 's#^expiry-time="20200101Z" ##' .ssh/authorized_keys2`)
	if got := results(d.surveyOf(t, name, "-inside", "-outside"))[name+"-visitor"]; got != "recorded" {
		t.Errorf("free in one of two lines: %q", got)
	}
	contains(t, "shown", d.must(t, "access", "list", "-instance", name), "◑ accepted")
	// from= somewhere else: refused from here, and that is what is said.
	byHand(`rm .ssh/authorized_keys2; sed -i 's#^expiry-time="20200101Z"#from="192.0.2.0/24"#' .ssh/authorized_keys`)
	s = d.surveyOf(t, name, "-outside")
	for _, x := range s.Outside.Answers {
		if x.Key == name+"-visitor" && x.Answer != "refused" {
			t.Errorf("with from= elsewhere: %q", x.Answer)
		}
	}
	// A key that is recorded and not for this instance can be asked about too.
	d.must(t, "key", "create", name+"-other", "-dir", t.TempDir())
	s = d.surveyOf(t, name, "-outside", "-key", name+"-other")
	if len(s.Outside.Answers) != 1 || s.Outside.Answers[0].Answer != "refused" || s.Outside.Answers[0].Recorded {
		t.Errorf("a chosen key: %+v", s.Outside.Answers)
	}

	// Modes that make the server pass over the file: the steward is locked out
	// with everybody; while it is in, a group-writable second file is named.
	byHand("cp .ssh/authorized_keys .ssh/authorized_keys2; chmod 664 .ssh/authorized_keys2")
	if s := d.surveyOf(t, name); len(s.Ignored) != 1 || !strings.Contains(s.Ignored[0], "mode 664") {
		t.Errorf("modes: %q", s.Ignored)
	}
	byHand("rm .ssh/authorized_keys2")
	// A private key that lies there is known by the .pub beside it, and never opened.
	byHand("ssh-keygen -q -t ed25519 -N '' -C left-behind -f .ssh/id_ed25519; chmod 000 .ssh/id_ed25519; touch " +
		".ssh/no_pair.pub")
	s = d.surveyOf(t, name)
	if len(s.Lying) != 1 || s.Lying[0].File != ".ssh/id_ed25519" ||
		!strings.HasPrefix(s.Lying[0].Fingerprint, "SHA256:") {
		t.Errorf("lying: %+v", s.Lying)
	}
	// Unreadable, as root's own is: what is recorded may stand in there.
	byHand("sed -i '/" + strings.ReplaceAll(strings.Fields(visitor)[1], "/", `\/`) + "/d' .ssh/authorized_keys")
	mustDo(t, os.WriteFile(filepath.Join(a.home, ".ssh/authorized_keys2"), []byte(visitor+"\n"), 0o600)) // root's
	s = d.surveyOf(t, name)
	contains(t, "unreadable", strings.Join(s.NotSeen, "\n"), "authorized_keys2")
	for _, k := range s.Keys {
		if k.Result == "missing" {
			t.Errorf("one of two files was not seen, and %s is said to be missing", k.Key)
		}
	}
	mustDo(t, os.Remove(filepath.Join(a.home, ".ssh/authorized_keys2")))

	// Password login, as the server itself says.
	a.serve(t, "-o", "PasswordAuthentication=yes")
	s = d.surveyOf(t, name, "-outside")
	if !strings.Contains(strings.Join(s.Outside.Methods[0].Methods, " "), "password") {
		t.Errorf("methods: %+v", s.Outside.Methods)
	}
	has(t, "today", d.reasonsOf(t, "instance", name), "password-login", true)
	a.serve(t, "-o", "PasswordAuthentication=no", "-o", "KbdInteractiveAuthentication=no")
	d.surveyOf(t, name, "-outside")
	has(t, "off again", d.reasonsOf(t, "instance", name), "password-login", false)
}

// TestSurveyByTheClient: with the engineer's own key and sudo, everything that
// root may see; without, what is not seen is said.
func TestSurveyByTheClient(t *testing.T) {
	t.Parallel()
	ca := strings.TrimSpace(newPublic(t))
	caFile := writeFile(t, ca+"\n")
	a := startAdoptee(t, "")
	neighbour := fmt.Sprintf("pl-near-%d", a.port)
	if out, err := exec.Command("useradd", "--create-home", "--shell", "/bin/sh",
		neighbour).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	t.Cleanup(func() { _ = exec.Command("userdel", "--force", "--remove", neighbour).Run() })
	home := "/home/" + neighbour
	mustDo(t, os.MkdirAll(home+"/.ssh", 0o700))
	theirs := strings.Join(strings.Fields(newPublic(t))[:2], " ")
	mustDo(t, os.WriteFile(home+"/.ssh/keys-of-"+neighbour, []byte(theirs+" neighbour\n"), 0o600))
	// Private keys that lie about: one with a passphrase, one beside no .pub, one in the old format.
	for file, args := range map[string][]string{"/.ssh/locked": {"-N", "secret words"}, "/deploy-key": {"-N", ""},
		"/old.pem": {"-m", "PEM", "-N", ""}} {
		kind := []string{"-t", "ed25519"}
		if file == "/old.pem" {
			kind = []string{"-t", "rsa", "-b", "2048"}
		}
		if out, err := exec.Command("ssh-keygen",
			append(append(kind, "-q", "-f", home+file), args...)...).CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
	}
	deploy, err := keypair.ReadPublic([]byte(mustRead(t, home+"/deploy-key.pub")))
	mustDo(t, err)
	private := mustRead(t, home+"/deploy-key")
	mustDo(t, os.Remove(home+"/deploy-key.pub"))
	// A configuration of its own: a Match that reads another file for the neighbour, an authority, a command.
	config := writeFile(t, fmt.Sprintf("UsePAM yes\nTrustedUserCAKeys %s\nAuthorizedKeysCommand /bin/true "+
		"%%u\nAuthorizedKeysCommandUser nobody\nSubsystem sftp internal-sftp\nMatch User %s\n  AuthorizedKeysFile "+
		".ssh/keys-of-%%u\n", caFile, neighbour))
	a.serve(t, "-f", config)
	mustDo(t, os.Chmod(filepath.Dir(config), 0o755))

	d := newHome(t, shared)
	name := fmt.Sprintf("client-door-%d", a.port)
	d.must(t, a.args(name, "-record", name+"-key")...)
	without := d.must(t, "survey", name, "-identity", a.identity)
	contains(t, "without sudo", without, "with no sudo",
		"not seen: other users' files, and the server's effective configuration", "2 recorded")
	if strings.Contains(without, "neighbour") {
		t.Error("without sudo it shows what only root may read:\n" + without)
	}

	a.grantSudo(t)
	r := d.client(t, "", "survey", name, "-identity", a.identity, "-json")
	var s wire.Survey
	if err := json.Unmarshal([]byte(r.out), &s); err != nil {
		t.Fatalf("%v %+v", err, r)
	}
	var near wire.Surveyed
	for _, k := range s.Keys {
		if k.Comment == "neighbour" {
			near = k
		}
	}
	if near.Result != "unrecorded" || near.LoginUser != neighbour || near.File != ".ssh/keys-of-"+neighbour {
		t.Errorf("the neighbour's key in the file of its Match: %+v", near)
	}
	contains(t, "doors", fmt.Sprint(s.Doors), "TrustedUserCAKeys "+caFile, "a key command /bin/true")
	contains(t, "configuration", strings.Join(s.Config, "\n"), "passwordauthentication", "permitrootlogin")
	// What listens and what is mounted there; no systemd runs on this machine, so nothing is said of services.
	_, noUnits := os.Stat("/sys/fs/cgroup/system.slice")
	if m := s.Machine; m == nil || !slices.ContainsFunc(m.Ports, func(p wire.PortSeen) bool { return p.Number == a.port }) || m.Mounted == nil ||
		m.Written == nil || noUnits != nil && m.Running != nil {
		t.Errorf("the machine: %+v", m)
	}
	lying := map[string]string{}
	for _, l := range s.Lying {
		lying[l.File] = l.Fingerprint
	}
	if lying[home+"/deploy-key"] != deploy.Fingerprint() ||
		!strings.HasPrefix(lying[home+"/.ssh/locked"], "SHA256:") ||
		!strings.HasPrefix(lying[home+"/old.pem"], "SHA256:") {
		t.Errorf("lying: %+v", lying)
	}
	// Of a private key nothing but its fingerprint was sent, or is kept.
	body := strings.Split(strings.TrimSpace(private), "\n")[2]
	for _, kept := range []string{r.out, d.api(t, "GET", "/api/v1/instances/"+name+"/surveys", "").body} {
		if strings.Contains(kept, body) || strings.Contains(kept, "PRIVATE KEY") {
			t.Error("a private key was taken along")
		}
	}
	last := d.lastOf(t, name, "client")
	if last.Unrecorded < 4 || !strings.Contains(last.Vantage, "the client of") ||
		time.Since(*last.SeenAt) > time.Minute {
		t.Errorf("%+v", last.LastSurvey)
	}
	contains(t, "today", d.must(t, "today", "-instance", name, "-limit", "10000"), near.Fingerprint+" (neighbour) opens "+
		name+" as "+neighbour)
	contains(t, "taken over", d.must(t, "access", "record", name, near.Fingerprint, "-as", name+"-near"),
		name+"-near opens")
	contains(t, "who", d.must(t, "who", name), neighbour, "the client of")

	// By the agent, the same; and a report that lies about a user is refused.
	for what, body := range map[string]string{
		"a user that is none": `{"users":[{"user":"x;rm","files":[],"whole":true,"keys":[]}]}`,
		"a key that is none":  `{"users":[{"user":"debian","files":[],"whole":true,"keys":[{"file":"f","line":1,"options":"","public_key":"nonsense"}]}]}`,
		"a private key":       `{"users":[{"user":"debian","files":[],"whole":true,"keys":[{"file":"f","line":1,"options":"","public_key":` + mustJSON(t, private) + `}]}]}`,
	} {
		if got := d.api(t, "POST", "/api/v1/instances/"+name+"/client-survey", body); got.status < 400 ||
			got.status >= 500 {
			t.Errorf("%s: %d %s", what, got.status, got.body)
		}
	}
}

func mustRead(t *testing.T, file string) string {
	t.Helper()
	data, err := os.ReadFile(file)
	mustDo(t, err)
	return string(data)
}
