package logins

import (
	"errors"
	"maps"
	"os/exec"
	"slices"
	"strings"
	"testing"
)

// printed is what sshd -T of OpenSSH 9.2 prints, in part.
const printed = `port 22
permitrootlogin without-password
passwordauthentication yes
kbdinteractiveauthentication no
permitemptypasswords no
hostbasedauthentication no
authorizedkeyscommanduser none
`

func TestReadEffective(t *testing.T) {
	t.Parallel()
	e := ReadEffective(printed)
	if want := (Effective{Password: "yes", Keyboard: "no", Root: "prohibit-password", Empty: "no", HostBased: "no"}); !maps.Equal(e, want) {
		t.Errorf("%v", e)
	}
	if e := ReadEffective("challengeresponseauthentication yes\nPasswordAuthentication No\n"); e[Keyboard] != "yes" || e[Password] != "no" {
		t.Errorf("of an older server: %v", e)
	}
	if e := ReadEffective(""); len(e) != 0 {
		t.Errorf("%v", e)
	}
}

func TestChange(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		change  Change
		good    bool
		narrows bool
	}{
		{Change{}, false, false}, {Change{Password: "off"}, true, true}, {Change{Password: "on"}, true, false}, {Change{Root: "keys"}, true, true},
		{Change{Root: "off", Password: "on"}, true, true}, {Change{Root: "on"}, true, false}, {Change{Password: "no"}, false, false}, {Change{Root: "yes"}, false, false},
	} {
		if err := c.change.Check(); (err == nil) != c.good || err != nil && !errors.Is(err, ErrChange) || c.change.Narrows() != c.narrows {
			t.Errorf("%+v: %v, narrows %t", c.change, err, c.change.Narrows())
		}
	}
	before := map[Way]string{Root: "no"}
	off := Change{Password: "off"}.Settings(before)
	if !maps.Equal(off, map[Way]string{Root: "no", Password: "no", Keyboard: "no"}) || len(before) != 1 {
		t.Errorf("off: %v, before %v", off, before)
	}
	if on := (Change{Password: "on", Root: "keys"}).Settings(off); !maps.Equal(on, map[Way]string{Root: "prohibit-password", Password: "yes"}) {
		t.Errorf("on: %v", on)
	}
	if d := Differs(off, Effective{Root: "no", Password: "no", Keyboard: "no"}); d != nil {
		t.Errorf("%v", d)
	}
	if d := Differs(off, Effective{Root: "no", Password: "yes"}); len(d) != 2 || d[0] != "PasswordAuthentication is yes, and not no" ||
		d[1] != "KbdInteractiveAuthentication is not known to this server" {
		t.Errorf("%v", d)
	}
}

// TestOurs: what stands between our marks is ours, and all else stays as it is, to the byte.
func TestOurs(t *testing.T) {
	t.Parallel()
	settings := map[Way]string{Password: "no", Keyboard: "no", Root: "prohibit-password"}
	for _, rest := range []string{"", "Port 22\n", "Port 22", "\r\nPort 22\r\n", "\n\n# x\n"} {
		text := With(settings, rest)
		ours, got, err := Ours(text)
		if err != nil || got != rest || !maps.Equal(ours, settings) {
			t.Errorf("%q: %v %q %v", rest, ours, got, err)
		}
		if With(nil, rest) != rest {
			t.Errorf("%q, without settings: %q", rest, With(nil, rest))
		}
	}
	for what, text := range map[string]string{
		"an end without a beginning": "Port 22\n" + End + "\n",
		"a beginning without an end": Begin + "\nPort 22\n",
		"twice":                      With(settings, With(settings, "")),
		"one in another":             Begin + "\n" + Begin + "\n" + End + "\n",
	} {
		if _, _, err := Ours(text); !errors.Is(err, ErrMarks) {
			t.Errorf("%s: %v", what, err)
		}
	}
}

func FuzzOurs(f *testing.F) {
	f.Add(With(map[Way]string{Password: "no"}, "Port 22\n"))
	f.Add(End)
	f.Fuzz(func(t *testing.T, text string) {
		ours, rest, err := Ours(text)
		if err != nil {
			return
		}
		again, same, err := Ours(With(ours, rest))
		if err != nil || same != rest || !maps.Equal(again, ours) {
			t.Errorf("%q: %v %q %v", text, again, same, err)
		}
	})
}

// TestWhoGetsIn: whom each way lets in, and who is left out by a change.
func TestWhoGetsIn(t *testing.T) {
	t.Parallel()
	e := ReadEffective(printed)
	with := func(w Way, value string) Effective {
		out := maps.Clone(e)
		out[w] = value
		return out
	}
	keys := Account{User: "debian", Has: PasswordNone, Keys: 2}
	byPassword := Account{User: "eve", Has: PasswordSet}
	root := Account{User: "root", Has: PasswordSet, Keys: 1, IsRoot: true}
	empty := Account{User: "guest", Has: PasswordEmpty}
	unseen := Account{User: "x", Keys: -1}
	for _, c := range []struct {
		what         string
		a            Account
		w            Way
		e            Effective
		opens, known bool
	}{
		{"a locked password", keys, Password, e, false, true},
		{"a password", byPassword, Password, e, true, true},
		{"passwords are off", byPassword, Password, with(Password, "no"), false, true},
		{"a password that was not seen", unseen, Password, e, false, false},
		{"not seen, and off", unseen, Password, with(Password, "no"), false, true},
		{"root by password, where keys alone do", root, Password, e, false, true},
		{"root by password", root, Password, with(Root, "yes"), true, true},
		{"root", root, Root, e, true, true},
		{"root is off", root, Root, with(Root, "no"), false, true},
		{"another is no root", keys, Root, with(Root, "yes"), false, true},
		{"an empty password", empty, Empty, with(Empty, "yes"), true, true},
		{"an empty one, by the password's way", empty, Password, with(Empty, "yes"), true, true},
		{"an empty one, not allowed", empty, Password, e, false, true},
		{"the host vouches", keys, HostBased, with(HostBased, "yes"), true, true},
	} {
		if opens, known := c.a.Opens(c.w, c.e); opens != c.opens || known != c.known {
			t.Errorf("%s: %t, known %t", c.what, opens, known)
		}
	}
	all := []Account{keys, byPassword, root}
	for _, c := range []struct {
		change Change
		root   string
		want   string
	}{
		{Change{Password: "off"}, "prohibit-password", "eve"},
		{Change{Password: "on"}, "prohibit-password", ""},
		{Change{Root: "off"}, "prohibit-password", "root"},
		{Change{Root: "off"}, "no", ""},
		{Change{Root: "keys"}, "yes", ""},
		{Change{Root: "off", Password: "off"}, "yes", "eve root"},
	} {
		before := map[string]Effective{"debian": with(Root, c.root), "eve": with(Root, c.root), "root": with(Root, c.root)}
		if got := strings.Join(LeftOut(all, before, c.change), " "); got != c.want {
			t.Errorf("%s, with PermitRootLogin %s: %s", c.change, c.root, got)
		}
	}
	alone := []Account{{User: "root", Has: PasswordSet, IsRoot: true}}
	if got := LeftOut(alone, map[string]Effective{"root": with(Root, "yes")}, Change{Root: "keys"}); !slices.Equal(got, []string{"root"}) {
		t.Errorf("root without a key: %v", got)
	}
}

// TestScripts: a POSIX shell reads each script, whatever the files hold.
func TestScripts(t *testing.T) {
	t.Parallel()
	a := Arming{File: MainFile, Before: "Port 22\n# it's ours: $(id) `id` \\ \"x\"\n", After: "x\n", Challenge: "c", Signers: []string{"ssh-ed25519 AAAA it's"},
		SSHD: "/usr/sbin/sshd", Listener: 7}
	none := a
	none.None = true
	for what, script := range map[string]string{"arm": a.Arm(), "arm, no file": none.Arm(), "place": a.Place(), "place, no file": none.Place(), "reload": Reload,
		"back": PutBack, "confirm": Confirm, "report": Report, "way back": wayBack, "confirming": confirm} {
		cmd := exec.Command("sh", "-n")
		cmd.Stdin = strings.NewReader(script)
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Errorf("%s: %v %s", what, err, out)
		}
	}
	out, err := exec.Command("sh", "-c", "printf %s "+Quote(a.Before)).Output()
	if err != nil || string(out) != a.Before {
		t.Errorf("quoted: %q %v", out, err)
	}
}
