package routes

import (
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"plumlatch/core/comeback"
)

var now = time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)

// inOrder is an instance that every route is open for.
func inOrder() Facts {
	return Facts{
		Instance: "berth-board-1", LoginUser: "debian", State: "running", InCloud: true, Now: now, Measured: true,
		Keys: []Key{{Name: "old", Person: true, State: "lost", Accepted: true},
			{Name: "night-crew", Holder: "night", Person: true, Accepted: true}},
		Steward: &Key{Accepted: true}, BootText: true, Volumes: true, RootVolume: "hold-1", Zone: "a",
		RescueImage: "debian-12", Image: "board", HostKeys: true, Lends: time.Minute, Sets: &Sets{Takes: 10 * time.Second},
		Offered: []string{"password"}, OfferedAt: now, Change: time.Second, Currency: "pence", RescueHour: 2,
		Agent: &Agent{Connected: true, Edit: true}, Images: true, ImagesRunning: true, Shuts: true, ShutsOut: true, ImageTime: time.Minute, Service: netip.MustParseAddr("192.0.2.7"),
	}
}

func offerOf(f Facts, route string) Offer {
	all := Compare(f)
	return all[slices.IndexFunc(all, func(o Offer) bool { return o.Route == route })]
}

// TestEachCondition closes each route in each way, one at a time, and no other.
func TestEachCondition(t *testing.T) {
	for _, o := range Compare(inOrder()) {
		if !o.Open || len(o.Steps) < len(finish) || o.Sure == "" {
			t.Errorf("in order: %+v", o)
		}
	}
	for what, c := range map[string]struct {
		break_ func(*Facts)
		closed []string
		says   string
	}{
		"no other key": {func(f *Facts) { f.Keys = f.Keys[:1] }, []string{"second-key"},
			"no other key of a person"},
		"the other key is exposed": {func(f *Facts) { f.Keys[1].State = "exposed" },
			[]string{"second-key"}, "no other key"},
		"the other key is a job's": {func(f *Facts) { f.Keys[1].Person = false },
			[]string{"second-key"}, "no other key"},
		"the other key is refused": {func(f *Facts) { f.Keys[1].Accepted = false },
			[]string{"second-key"}, "no other key"},
		"only the one to be lost": {func(f *Facts) { f.Measured, f.Keys = false, f.Keys[1:] },
			[]string{"second-key"}, "the only key of a person"},
		"old evidence of both": {func(f *Facts) { f.Measured, f.Keys[1].Old, f.Steward.Old = false, true, true },
			[]string{"second-key", "steward"}, "known to be accepted"},
		"no steward": {func(f *Facts) { f.Steward = nil }, []string{"steward"}, "no steward"},
		"the steward is refused": {func(f *Facts) { f.Steward.Accepted = false }, []string{"steward"},
			"not known to be accepted"},
		"stopped": {func(f *Facts) { f.State = "stopped" }, []string{"steward", "already-open", "lent-key", "agent", "cloud-agent"},
			"it is stopped"},
		"stopping destroys": {func(f *Facts) { f.StopDestroys = "its local disk is wiped" },
			[]string{"boot-text", "disk", "copy"}, "its local disk is wiped"},
		"no right to stop": {func(f *Facts) { f.MissingRight = map[string]bool{"stop": true} },
			[]string{"boot-text", "disk", "copy"}, "may not stop"},
		"no right to start": {func(f *Facts) { f.MissingRight = map[string]bool{"start": true} },
			[]string{"boot-text", "disk", "copy"}, "start it"},
		"no right to volumes": {func(f *Facts) { f.MissingRight = map[string]bool{"volumes": true} },
			[]string{"disk"}, "may not move"},
		"no right to user data": {func(f *Facts) { f.MissingRight = map[string]bool{"user-data": true} },
			[]string{"boot-text"}, "may not change its user data"},
		"a cloud without boot text": {func(f *Facts) { f.BootText = false }, []string{"boot-text"},
			"runs no user data at boot"},
		"a cloud without volumes": {func(f *Facts) { f.Volumes = false }, []string{"disk"},
			"does not let root volumes"},
		"no volume":              {func(f *Facts) { f.RootVolume = "" }, []string{"boot-text", "disk", "copy"}, "no root volume"},
		"no rescue":              {func(f *Facts) { f.RescueImage = "" }, []string{"disk"}, "no rescue instance in zone a"},
		"no cloud":               {func(f *Facts) { f.InCloud = false }, []string{"boot-text", "disk", "lent-key", "copy", "cloud-agent"}, "no cloud of ours"},
		"a cloud without images": {func(f *Facts) { f.Images = false }, []string{"copy"}, "makes no images"},
		"copies cannot be shut":  {func(f *Facts) { f.Shuts = false }, []string{"copy"}, "cannot begin a copy shut"},
		"no right to images": {func(f *Facts) { f.MissingRight = map[string]bool{"images": true} }, []string{"copy"},
			"may not make images"},
		"images of stopped ones alone": {func(f *Facts) { f.ImagesRunning = false }, []string{"copy"}, "of stopped instances alone"},
		"an unknown service":           {func(f *Facts) { f.Service = netip.Addr{} }, []string{"copy"}, "does not know the address"},
		"a cloud that lends nothing":   {func(f *Facts) { f.Lends = 0 }, []string{"lent-key"}, "lends no keys"},
		"an image without the agent": {func(f *Facts) { f.LendImages = []string{"other"} }, []string{"lent-key"},
			"is not on its image (board)"},
		"no right to lend": {func(f *Facts) { f.MissingRight = map[string]bool{"lend": true} }, []string{"lent-key"},
			"may not have it lend a key"},
		"a cloud that sets nothing":              {func(f *Facts) { f.Sets = nil }, []string{"cloud-agent"}, "no agent that sets keys"},
		"an image without the cloud's own agent": {func(f *Facts) { f.Sets = &Sets{Images: []string{"other"}} }, []string{"cloud-agent"}, "is not on its image (board)"},
		"no right to set keys": {func(f *Facts) {
			f.MissingRight, f.Sets = map[string]bool{"set-keys": true}, &Sets{Grant: "a role to it", Granted: 2 * time.Minute}
		}, []string{"cloud-agent"}, "grant a role to it, which holds after about 2m"},
		"no host key": {func(f *Facts) { f.HostKeys = false }, []string{"lent-key"}, "no host key of it is known"},
		"keys only":   {func(f *Facts) { f.Offered = nil }, []string{"already-open"}, "no login but by key"},
		"nobody looked": {func(f *Facts) { f.Offered, f.OfferedAt = nil, time.Time{} }, []string{"already-open"},
			"nobody has looked"},
		"gone": {func(f *Facts) { f.Gone = "it was removed" },
			[]string{"second-key", "steward", "boot-text", "disk", "already-open", "lent-key", "copy", "agent", "cloud-agent"}, "it was removed"},
		"no agent":            {func(f *Facts) { f.Agent = nil }, []string{"agent"}, "it has no agent"},
		"an agent away":       {func(f *Facts) { f.Agent = &Agent{Edit: true} }, []string{"agent"}, "is not connected"},
		"an agent that looks": {func(f *Facts) { f.Agent = &Agent{Connected: true} }, []string{"agent"}, "does not open edit"},
		"a frozen agent":      {func(f *Facts) { f.Agent = &Agent{Connected: true, Edit: true, Frozen: true} }, []string{"agent"}, "names no operator"},
	} {
		f := inOrder()
		f.Keys = slices.Clone(f.Keys)
		f.Steward = &Key{Accepted: true}
		c.break_(&f)
		for _, o := range Compare(f) {
			if want := !slices.Contains(c.closed, o.Route); o.Open != want {
				t.Errorf("%s: %s is open: %v (%v)", what, o.Route, o.Open, o.Lacking)
			}
			if !o.Open && (len(o.Lacking) == 0 || !strings.Contains(o.Lacking[0].What, c.says)) {
				t.Errorf("%s: %s lacks %v, not %q", what, o.Route, o.Lacking, c.says)
			}
		}
	}
}

// TestRank: less loss, then less downtime, then our own edits, then less time, then fewer changes.
func TestRank(t *testing.T) {
	var order []string
	for _, o := range Compare(inOrder()) {
		order = append(order, o.Route)
	}
	if got := strings.Join(order, " "); got != "agent steward cloud-agent lent-key already-open second-key boot-text disk copy" {
		t.Errorf("ranked %s", got)
	}
	// An agent that adds a line once writes the file itself: after all that is our own edit, and before what stops the machine.
	once := inOrder()
	once.Sets.Once = true
	order = order[:0]
	for _, o := range Compare(once) {
		order = append(order, o.Route)
	}
	if got := strings.Join(order, " "); got != "agent steward lent-key already-open second-key cloud-agent boot-text disk copy" {
		t.Errorf("where the cloud's agent adds a line once: %s", got)
	}
	// Many at a time: those that need nobody's hand first, and one that is shut is none of them.
	f := inOrder()
	f.Steward, f.MissingRight = nil, map[string]bool{"user-data": true}
	order = order[:0]
	for _, o := range Alone(Compare(f)) {
		order = append(order, o.Route)
	}
	if got := strings.Join(order, " "); got != "cloud-agent disk agent lent-key already-open second-key copy steward boot-text" {
		t.Errorf("for many: %s", got)
	}
	f = inOrder()
	f.Steward, f.Offered, f.Keys, f.Lends, f.Agent, f.Sets = nil, nil, nil, 0, nil, nil
	order = order[:0]
	for _, o := range Compare(f) {
		order = append(order, o.Route)
	}
	if order[0] != "boot-text" || order[1] != "disk" {
		t.Errorf("ranked %v", order)
	}
}

// TestShut: a door that no inbound rule leads to is no way in, whichever route is taken; the agent adds the key all the same, and says so.
func TestShut(t *testing.T) {
	for _, c := range []struct {
		what, rules, service, lack string
	}{
		{"not seen", "-", "192.0.2.7", ""},
		{"nobody", "", "192.0.2.7", "no inbound rule lets anybody in"},
		{"others", "198.51.100.0/24", "192.0.2.7", "no inbound rule lets the service in from 192.0.2.7"},
		{"the service", "198.51.100.0/24 192.0.2.0/28", "192.0.2.7", ""},
		{"an unknown service", "198.51.100.0/24", "", ""},
	} {
		f := inOrder()
		f.RulesSeen = c.rules != "-"
		for text := range strings.FieldsSeq(c.rules) {
			if f.RulesSeen {
				f.Rules = append(f.Rules, netip.MustParsePrefix(text))
			}
		}
		f.Service = netip.Addr{}
		if c.service != "" {
			f.Service = netip.MustParseAddr(c.service)
		}
		for _, o := range Compare(f) {
			if c.service == "" && o.Route == "copy" { // which needs to know it
				continue
			}
			if o.Route == "agent" { // which needs no port; whoever comes in by the key does
				if !o.Open || c.lack != "" && (len(o.ToCheck) != 1 || !strings.Contains(o.ToCheck[0], c.lack)) {
					t.Errorf("%s: by the agent: %+v", c.what, o)
				}
				continue
			}
			if o.Open != (c.lack == "") || c.lack != "" && !strings.Contains(o.Lacking[0].What, c.lack) {
				t.Errorf("%s: %s is open: %v; lacks %v", c.what, o.Route, o.Open, o.Lacking)
			}
		}
	}
}

// TestRankInTurn: each reason goes before all that come after it.
func TestRankInTurn(t *testing.T) {
	const s = time.Second
	one := []string{"x"}
	for _, c := range []struct {
		what         string
		first, later Offer
	}{
		{"open", Offer{Open: true, CanBeLost: one, Down: s, UntilIn: s, Changes: one}, Offer{}},
		{"loss", Offer{Down: s, UntilIn: s, Changes: one}, Offer{CanBeLost: one}},
		{"downtime", Offer{UntilIn: s, Changes: one}, Offer{Down: s}},
		{"time", Offer{Changes: one}, Offer{UntilIn: s}},
		{"changes", Offer{}, Offer{Changes: one}},
	} {
		if rank(c.first, c.later) >= 0 || rank(c.later, c.first) <= 0 {
			t.Errorf("%s does not decide", c.what)
		}
	}
}

// TestCosts: what stopping changes is told where it changes something.
func TestCosts(t *testing.T) {
	f := inOrder()
	disk := offerOf(f, "disk")
	if len(disk.Charges) != 1 || disk.Charges[0].Amount != 2 || disk.Down == 0 ||
		!slices.ContainsFunc(disk.Changes, func(s string) bool { return strings.Contains(s, "address is dynamic") }) {
		t.Errorf("%+v", disk)
	}
	f.Rescues, f.Static = []Rescue{{Name: "rescue-1"}}, true
	with := offerOf(f, "disk")
	if len(with.Charges) != 0 || with.UntilIn >= disk.UntilIn || len(with.Changes) != len(disk.Changes)-1 {
		t.Errorf("with a rescue instance and a static address: %+v", with)
	}
	f.Asks = "on its host: virsh console 1"
	for _, route := range []string{"disk", "boot-text", "copy"} {
		if o := offerOf(f, route); !strings.Contains(strings.Join(o.Changes, "\n"), "waits for somebody at") || !strings.Contains(strings.Join(o.Changes, "\n"), "console") {
			t.Errorf("%s of a machine that asks at its console: %v", route, o.Changes)
		}
	}
	if o := offerOf(f, "steward"); strings.Contains(strings.Join(o.Changes, "\n"), "console") {
		t.Errorf("steward boots nothing: %v", o.Changes)
	}
	f.State, f.Asks = "stopped", ""
	if o := offerOf(f, "boot-text"); o.Down != 0 || len(o.Changes) != 0 || len(o.CanBeLost) != 0 {
		t.Errorf("stopped already: %+v", o)
	}
	if o := offerOf(f, "second-key"); o.People != "whoever holds night-crew (night)" || o.Down != 0 {
		t.Errorf("%+v", o)
	}
}

// TestRoutesAreNamed: each file's route is in the list once, with steps.
func TestRoutesAreNamed(t *testing.T) {
	seen := map[string]bool{}
	for _, r := range All() {
		if seen[r.Name] || r.About == "" || r.Judge == nil || len(r.Steps) == 0 {
			t.Errorf("route %+v", r)
		}
		seen[r.Name] = true
		if got, ok := ByName(r.Name); !ok || got.About != r.About {
			t.Errorf("%s is not found", r.Name)
		}
	}
	if len(seen) < 5 {
		t.Errorf("%v", seen)
	}
	if _, ok := ByName("window"); ok {
		t.Error("a route that is none is found")
	}
}

// lsblkBookworm is what util-linux 2.38 prints, and lsblkOld what 2.32 does.
const (
	lsblkBookworm = `{"blockdevices": [
 {"name":"vda","type":"disk","size":10737418240,"fstype":null,"uuid":null,"label":null,"serial":null,"mountpoint":null,"children":[
  {"name":"vda1","type":"part","size":9663676416,"fstype":"ext4","uuid":"6b2a","label":null,"serial":null,"mountpoint":"/"}]},
 {"name":"vdb","type":"disk","size":21474836480,"fstype":null,"uuid":null,"label":null,"serial":"hold00004","mountpoint":null,"children":[
  {"name":"vdb1","type":"part","size":1,"fstype":"vfat","uuid":"A9","label":"EFI","serial":null,"mountpoint":null},
  {"name":"vdb2","type":"part","size":1,"fstype":"crypto_LUKS","uuid":"c","label":null,"serial":null,"mountpoint":null},
  {"name":"vdb3","type":"part","size":1,"fstype":"xfs","uuid":"x-1","label":"home","serial":null,"mountpoint":null}]},
 {"name":"vdc","type":"disk","size":1073741824,"fstype":"ext4","uuid":null,"label":null,"serial":"other","mountpoint":null}]}`
	lsblkOld = `{"blockdevices": [{"name":"sdb","type":"disk","size":"21474836480","fstype":"ext4","uuid":null,"label":null,"mountpoint":null}]}`
)

// TestCandidates: what is looked at, what is named as out of reach, and what is nothing.
func TestCandidates(t *testing.T) {
	for _, c := range []struct{ fsType, not string }{
		{"ext4", ""}, {"xfs", ""}, {"btrfs", ""},
		{"crypto_LUKS", "vdb1 is encrypted"},
		{"LVM2_member", "vdb1 belongs to a volume group (LVM), which is not opened here"},
		{"ntfs", "vdb1 has a filesystem of another operating system (ntfs)"},
		{"BitLocker", "vdb1 has a filesystem of another operating system (BitLocker)"},
		{"zfs_member", "vdb1 has a filesystem of another operating system (zfs_member)"}, {"vfat", "-"},
		{"swap", "-"}, {"", "-"},
	} {
		parts, not := Candidates(BlockDevice{Name: "vdb", Children: []BlockDevice{{Name: "vdb1", FSType: c.fsType}}})
		if want := c.not; (len(parts) == 1) != (want == "") || strings.Join(not, ";") != strings.Trim(want, "-") {
			t.Errorf("%q: %v %v", c.fsType, parts, not)
		}
	}
}

func TestDisks(t *testing.T) {
	all, err := ReadDisks([]byte(lsblkBookworm))
	if err != nil || len(all) != 3 || all[1].Children[2].FSType != "xfs" || all[0].Children[0].Mounted != "/" {
		t.Fatalf("%+v %v", all, err)
	}
	if d, err := Attached([]string{"vda", "vdc"}, all, "hold-00004"); err != nil || d.Path() != "/dev/vdb" {
		t.Errorf("%+v %v", d, err)
	}
	if d, err := Attached([]string{"vda"}, all, "hold-00004"); err != nil || d.Name != "vdb" {
		t.Errorf("of two, by its serial: %+v %v", d, err)
	}
	if _, err := Attached([]string{"vda"}, all, "hold-00009"); err == nil {
		t.Error("of two, and neither is known")
	}
	if _, err := Attached([]string{"vda", "vdb", "vdc"}, all, "hold-00004"); err == nil {
		t.Error("none is new")
	}
	parts, not := Candidates(all[1])
	if len(parts) != 1 || parts[0].Name != "vdb3" || len(not) != 1 || !strings.Contains(not[0], "vdb2 is encrypted") {
		t.Errorf("%+v %v", parts, not)
	}
	if parts, _ := Candidates(all[2]); len(parts) != 1 || parts[0].Name != "vdc" {
		t.Errorf("a disk without partitions: %+v", parts)
	}
	if p, ok := Named(all[1], "LABEL=home"); !ok || p.Name != "vdb3" {
		t.Errorf("%+v", p)
	}
	old, err := ReadDisks([]byte(lsblkOld))
	if err != nil || old[0].Size != 20<<30 {
		t.Errorf("%+v %v", old, err)
	}
	for _, bad := range []string{"", "{", `{"blockdevices":[{"name":"x; reboot","type":"disk"}]}`,
		`{"blockdevices":[{"name":"../x","type":"disk"}]}`,
		`{"blockdevices":[{"name":"vdb","fstype":"ext4 -o exec"}]}`} {
		if d, err := ReadDisks([]byte(bad)); err == nil {
			t.Errorf("%q: %+v", bad, d)
		}
	}
}

func TestAccountAndHome(t *testing.T) {
	passwd := "root:x:0:0:root:/root:/bin/bash\ndebian:x:1000:1001:,,,:/home/debian:/bin/bash\nodd:x:x:1:::\nslash:x:1:1::/:/bin/sh\nup:x:2:2::/../../etc:/bin/sh\n"
	if a, ok := ReadAccount(passwd, "debian"); !ok || a != (Account{1000, 1001, "/home/debian", "/bin/bash"}) {
		t.Errorf("%+v %v", a, ok)
	}
	for _, u := range []string{"nobody", "odd", "slash", ""} {
		if a, ok := ReadAccount(passwd, u); ok {
			t.Errorf("%s: %+v", u, a)
		}
	}
	if a, ok := ReadAccount(passwd, "up"); !ok || a.Home != "/etc" { // beneath the mount all the same
		t.Errorf("%+v %v", a, ok)
	}
	fstab := "# /home was on sdb\nUUID=r / ext4 defaults 0 1\nLABEL=data /home xfs nofail 0 2\nUUID=v /home/deb " +
		"ext4 defaults 0 2\n"
	if spec, at := HomeApart(fstab, "/home/debian"); spec != "LABEL=data" || at != "/home" {
		t.Errorf("%s at %s", spec, at)
	}
	if spec, _ := HomeApart(fstab, "/root"); spec != "" {
		t.Errorf("%s", spec)
	}
}

func TestMountOptions(t *testing.T) {
	for _, fs := range []string{"ext4", "xfs", "btrfs"} {
		for _, ro := range []bool{true, false} {
			o := MountOptions(fs, ro)
			for _, want := range []string{"nodev", "nosuid", "noexec"} {
				if !slices.Contains(strings.Split(o, ","), want) {
					t.Errorf("%s: %s", fs, o)
				}
			}
			if strings.Contains(o, "nouuid") != (fs == "xfs") || strings.HasPrefix(o, "ro") != ro {
				t.Errorf("%s: %s", fs, o)
			}
		}
	}
}

func FuzzReadDisks(f *testing.F) {
	f.Add([]byte(lsblkBookworm))
	f.Add([]byte(lsblkOld))
	f.Fuzz(func(t *testing.T, text []byte) {
		all, err := ReadDisks(text)
		if err != nil {
			return
		}
		for _, d := range all {
			parts, _ := Candidates(d)
			for _, p := range append(parts, d) {
				if !deviceName.MatchString(p.Name) ||
					strings.ContainsAny(MountOptions(p.FSType, true)+p.FSType, " ;'\n") {
					t.Errorf("%+v", p)
				}
			}
		}
	})
}

func FuzzReadAccount(f *testing.F) {
	f.Add("debian:x:1000:1001:,,,:/home/debian:/bin/bash\n", "debian")
	f.Fuzz(func(t *testing.T, passwd, user string) {
		if a, ok := ReadAccount(passwd, user); ok && (a.UID < 0 || !strings.HasPrefix(a.Home, "/") ||
			strings.Contains(a.Home, "..") && strings.Contains(a.Home, "/../")) {
			t.Errorf("%+v", a)
		}
	})
}

// TestComesBack: what would not come back is told by every way that stops, as far as it was seen; else that it was not.
func TestComesBack(t *testing.T) {
	seen := comeback.Machine{Running: []string{"ssh.service", "tally.service"}, Enabled: []string{"ssh.service"},
		Ports: []comeback.Port{{Number: 22}, {Number: 5432, Local: true}}, Mounted: []string{"/", "/srv"}, Written: []string{"/"}}
	half := comeback.Machine{Mounted: []string{"/"}, Written: []string{"/"}}
	for what, c := range map[string]struct {
		within      *comeback.Machine
		blind       string
		told        comeback.Machine
		lost, check []string
	}{
		"seen": {&seen, "", comeback.Machine{}, []string{"tally.service: it runs, and nothing starts it at boot", "/srv: it is mounted, and fstab does not have it"},
			[]string{"listens again on 22"}},
		"in part":        {&half, "", comeback.Machine{}, nil, []string{"starts at boot: not seen;"}},
		"nobody gets in": {nil, "permission denied", comeback.Machine{}, nil, []string{"starts at boot: not seen (permission denied);", "in fstab: not seen (permission denied)", "plumlatch survey "}},
		"an engineer's client has seen it": {nil, "permission denied", seen, []string{"tally.service: it runs, and nothing starts it at boot (seen by " +
			"olga's client, 5 minutes ago)"}, []string{"listens again on 22"}},
		"it has seen the rest": {&half, "", seen, []string{"tally.service: it runs, and nothing starts it at boot (seen by olga's"},
			[]string{"listens again on 22"}},
	} {
		f := inOrder()
		f.Within, f.Blind = c.within, c.blind
		if c.told.Running != nil {
			f.Told, f.ToldBy = c.told, "olga's client, 5 minutes ago"
		}
		for _, route := range []string{"disk", "boot-text", "copy", "steward"} {
			o := offerOf(f, route)
			lost, check := strings.Join(o.CanBeLost, "\n"), strings.Join(o.ToCheck, "\n")
			for _, text := range c.lost {
				if strings.Contains(lost, text) != (route != "steward") {
					t.Errorf("%s, %s: can be lost %q", what, route, o.CanBeLost)
				}
			}
			for _, text := range c.check {
				if strings.Contains(check, text) != (route != "steward") {
					t.Errorf("%s, %s: to check %q", what, route, o.ToCheck)
				}
			}
			if (c.within == &seen || c.told.Running != nil) && strings.Contains(check, "not seen") || strings.Contains(check, "5432") ||
				c.within == &half && strings.Contains(lost, "/srv") { // the service itself saw no such mount
				t.Errorf("%s, %s: to check %q", what, route, o.ToCheck)
			}
		}
	}
}
