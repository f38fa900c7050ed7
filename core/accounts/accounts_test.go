package accounts

import (
	"errors"
	"os/exec"
	"strings"
	"testing"
)

const listed = "user\troot\t0\troot\tfolder\t0\t90\t/bin/bash\t/root\n" +
	"user\tdebian\t1000\tfree\tfolder\t1000\t3\t/bin/bash\t/home/debian\n" +
	"user\teve.s\t1001\t-\tlink\t-1\t0\t/bin/sh\t/home/eve.s\n" +
	"user\todd name\t1002\tno\tfolder\t1002\t0\t/bin/sh\t/home/odd\n" +
	"user\ttwin\tx\tno\tfolder\t1002\t0\t/bin/sh\t/home/odd\n" +
	"user\tshort\t5\n" +
	"shadow\troot\tlocked\t\nshadow\tdebian\tset\t20800\nshadow\tgone\tset\t1\nshadow\teve.s\tempty\tx\n"

func TestRead(t *testing.T) {
	t.Parallel()
	all, err := Read(listed + "plumlatch-end\n")
	if err != nil || len(all) != 3 {
		t.Fatalf("%+v %v", all, err)
	}
	for n, want := range []Account{
		{Name: "root", Shell: "/bin/bash", Home: "/root", HomeIs: HomeFolder, Sudo: SudoRoot, Processes: 90, Password: "locked"},
		{Name: "debian", UID: 1000, Shell: "/bin/bash", Home: "/home/debian", HomeIs: HomeFolder, HomeOwner: 1000, Sudo: SudoFree, Processes: 3, Password: "set",
			Expires: 20800},
		{Name: "eve.s", UID: 1001, Shell: "/bin/sh", Home: "/home/eve.s", HomeIs: HomeLink, HomeOwner: -1, Password: "empty"},
	} {
		if all[n] != want {
			t.Errorf("%+v, and not %+v", all[n], want)
		}
	}
	if all[2].MayRoot() || !all[1].MayRoot() || !all[0].MayRoot() {
		t.Error("who becomes root")
	}
	if _, err := Read(listed); !errors.Is(err, ErrCut) {
		t.Errorf("cut: %v", err)
	}
}

// TestLastRoot: who cannot be removed, as nobody else could become root.
func TestLastRoot(t *testing.T) {
	t.Parallel()
	root := Account{Name: "root", Sudo: SudoRoot, Password: "set"}
	debian := Account{Name: "debian", UID: 1000, Sudo: SudoFree}
	eve := Account{Name: "eve", UID: 1001, Sudo: SudoAsks}
	twin := Account{Name: "twin", UID: 1000, Sudo: SudoFree}
	plain := Account{Name: "plain", UID: 1002, Sudo: SudoNone}
	some := Account{Name: "some", UID: 1003, Sudo: SudoSome}
	withPassword := eve
	withPassword.Password = "set"
	for what, c := range map[string]struct {
		all  []Account
		keys map[string]int
		last bool
	}{
		"alone":                             {[]Account{root, debian}, map[string]int{"root": 1}, true},
		"beside those who cannot":           {[]Account{root, debian, plain, some}, map[string]int{"plain": 1, "some": 1}, true},
		"beside one who can, by a key":      {[]Account{root, debian, eve}, map[string]int{"eve": 1}, false},
		"beside one who can, not seen":      {[]Account{root, debian, eve}, map[string]int{"eve": -1}, false},
		"beside one who does not get in":    {[]Account{root, debian, eve}, map[string]int{"eve": 0}, true},
		"beside one by a password":          {[]Account{root, debian, withPassword}, nil, false},
		"beside another name of its number": {[]Account{root, debian, twin}, map[string]int{"twin": 1}, true},
	} {
		if got := LastRoot(c.all, c.keys, "debian"); got != c.last {
			t.Errorf("%s: %t", what, got)
		}
	}
	if LastRoot([]Account{root, debian, plain}, nil, "plain") || LastRoot([]Account{root}, nil, "nobody") {
		t.Error("one who cannot become root is not the last who can")
	}
}

func FuzzRead(f *testing.F) {
	f.Add(listed + "plumlatch-end\n")
	f.Fuzz(func(t *testing.T, text string) {
		all, _ := Read(text)
		for _, a := range all {
			if (Wanted{Name: a.Name}).Check() != nil {
				t.Errorf("%q became a user", a.Name)
			}
		}
	})
}

func TestReadOwned(t *testing.T) {
	t.Parallel()
	o, err := ReadOwned("runs 2 sleep\nruns 1 a b\nhome 12 340\nfile /tmp/x y\nfile /srv/z\nmore\ncrontab\nplumlatch-end\n")
	if err != nil || strings.Join(o.Runs, "|") != "2 sleep|1 a b" || o.Files != 12 || o.KiB != 340 || strings.Join(o.Others, "|") != "/tmp/x y|/srv/z" || !o.More || !o.Crontab {
		t.Errorf("%+v %v", o, err)
	}
	if _, err := ReadOwned("home 1 2\n"); !errors.Is(err, ErrCut) {
		t.Errorf("cut: %v", err)
	}
	if o, err := ReadOwned(strings.Repeat("file /x\n", 21) + "plumlatch-end\n"); err != nil || len(o.Others) != 20 || !o.More {
		t.Errorf("many: %d %t %v", len(o.Others), o.More, err)
	}
}

// TestScripts: what could be a word of the shell is refused, or quoted; a POSIX shell reads each script.
func TestScripts(t *testing.T) {
	t.Parallel()
	good := Wanted{Name: "maria", Shell: "/bin/sh", Sudo: true, Line: "ssh-ed25519 AAAA it's $(id)", File: ".ssh/authorized_keys", Ends: 1_800_000_000}
	if err := good.Check(); err != nil {
		t.Fatal(err)
	}
	for what, change := range map[string]func(*Wanted){
		"a name":            func(w *Wanted) { w.Name = "a b" },
		"an option":         func(w *Wanted) { w.Name = "-r" },
		"a shell":           func(w *Wanted) { w.Shell = "/bin/sh;id" },
		"a relative shell":  func(w *Wanted) { w.Shell = "sh" },
		"a file":            func(w *Wanted) { w.File = "x y" },
		"a file outside":    func(w *Wanted) { w.File = "../x" },
		"no file":           func(w *Wanted) { w.File = "" },
		"a line in a line":  func(w *Wanted) { w.Line = "a\nb" },
		"an end before all": func(w *Wanted) { w.Ends = -1 },
	} {
		w := good
		change(&w)
		if err := w.Check(); !errors.Is(err, ErrWanted) {
			t.Errorf("%s: %v", what, err)
		}
	}
	for what, script := range map[string]string{"list": List(""), "list one": List("maria"), "add": good.Script(), "add, bare": Wanted{Name: "x"}.Script(), "owns": Owns("maria"), "remove": Remove("maria", false),
		"remove, and keep": Remove("maria", true), "end": End("maria"), "after": After("maria", true, true), "takes": Takes} {
		cmd := exec.Command("sh", "-n")
		cmd.Stdin = strings.NewReader(script)
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Errorf("%s: %v %s", what, err, out)
		}
	}
	if f := SudoFile("a.b"); strings.Contains(f[len("/etc/sudoers.d/"):], ".") {
		t.Errorf("sudo passes over %s", f)
	}
}
