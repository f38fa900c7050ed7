package access

import (
	"strings"
	"testing"
	"time"
)

// TestOpening: that a key is the only way in, or that nobody gets in, is said only if nothing that is
// known contradicts it, recorded or not.
func TestOpening(t *testing.T) {
	at := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	looked := Looked{SeenAt: at, TriedAt: at}
	recorded := DoorKey{Key: "day-crew", Fingerprint: "SHA256:a", LoginUser: "debian", Recorded: true,
		HolderSort: "person", State: InUse, Standing: Accepted, At: at}
	second := recorded
	second.Key, second.Fingerprint = "night-crew", "SHA256:b"
	lost := recorded
	lost.State = Lost
	stray := DoorKey{Fingerprint: "SHA256:c", Comment: "stray", LoginUser: "debian", State: InUse,
		There: &There{Place: ".ssh/authorized_keys:3", From: "steward", At: at}}
	with := func(k DoorKey, limits string) DoorKey {
		there := *k.There
		there.Limits = limits
		k.There = &there
		return k
	}
	lostStray := stray
	lostStray.Key, lostStray.State = "lost-key", Lost
	ending := second
	ending.Until = at.Add(time.Hour)
	endingLine := second
	endingLine.There = &There{Place: ".ssh/authorized_keys:2", From: "steward", At: at, Ends: at.Add(time.Hour)}
	only := second
	only.Only = "uptime"
	machine := ending
	machine.HolderSort = "job"
	firstBoot := DoorKey{Key: "day-crew", Fingerprint: "SHA256:a", LoginUser: "root", State: InUse,
		There: &There{Place: "/root/.ssh/authorized_keys:1", From: "steward", At: at, Limits: Command}}
	authority := with(standing(recorded, at), Authority)
	for name, c := range map[string]struct {
		keys    []DoorKey
		others  []Other
		inside  Looked
		sole    string
		nobody  bool
		besides []string
		notSeen string
		reason  Reason
	}{
		"one recorded key":                        {keys: []DoorKey{recorded}, inside: looked, sole: "day-crew", reason: SoleOpenerKey},
		"the same for two users":                  {keys: []DoorKey{recorded, userOf(recorded, "root")}, inside: looked, sole: "day-crew", reason: SoleOpenerKey},
		"two recorded keys":                       {keys: []DoorKey{recorded, second}, inside: looked},
		"a key that nobody recorded":              {keys: []DoorKey{recorded, stray}, inside: looked, besides: []string{"SHA256:c (stray)"}},
		"one that runs one command":               {keys: []DoorKey{recorded, with(stray, Command)}, inside: looked, sole: "day-crew", reason: SoleOpenerKey},
		"one whose end has come":                  {keys: []DoorKey{recorded, with(stray, Expired)}, inside: looked, sole: "day-crew", reason: SoleOpenerKey},
		"one that is lost":                        {keys: []DoorKey{recorded, lostStray}, inside: looked, sole: "day-crew", reason: SoleOpenerKey},
		"first boot's line for root":              {keys: []DoorKey{recorded, firstBoot}, inside: looked, sole: "day-crew", reason: SoleOpenerKey},
		"a line that trusts an authority":         {keys: []DoorKey{recorded, with(stray, Authority)}, inside: looked, besides: []string{"a certificate authority (SHA256:c) for debian, in .ssh/authorized_keys:3"}},
		"a setting that trusts them":              {keys: []DoorKey{recorded}, others: []Other{{Sort: CASetting, Value: "/etc/ssh/ca.pub", Place: "/etc/ssh/sshd_config:4"}}, inside: looked, besides: []string{"TrustedUserCAKeys /etc/ssh/ca.pub, in /etc/ssh/sshd_config:4"}},
		"login by password":                       {keys: []DoorKey{recorded}, others: []Other{{Sort: Password, User: "debian"}}, inside: looked, besides: []string{"login by password for debian"}},
		"one with an end beside it":               {keys: []DoorKey{recorded, ending}, inside: looked, sole: "day-crew", besides: []string{"for a while only: night-crew"}, reason: SoleOpenerKey},
		"one whose line ends":                     {keys: []DoorKey{recorded, endingLine}, inside: looked, sole: "day-crew", besides: []string{"for a while only: night-crew"}, reason: SoleOpenerKey},
		"one shared for one command":              {keys: []DoorKey{recorded, only}, inside: looked, sole: "day-crew", reason: SoleOpenerKey},
		"only one with an end":                    {keys: []DoorKey{ending}, inside: looked, besides: []string{"for a while only: night-crew"}, reason: NotRecorded},
		"only a job's, with an end":               {keys: []DoorKey{machine}, inside: looked, nobody: true, reason: NoWayIn},
		"nothing":                                 {inside: looked, nobody: true, reason: NoWayIn},
		"a lost key alone":                        {keys: []DoorKey{lost}, inside: looked, nobody: true, reason: NoWayIn},
		"only one that nobody recorded":           {keys: []DoorKey{stray}, inside: looked, besides: []string{"keys that nobody recorded: SHA256:c (stray)"}, reason: NotRecorded},
		"a lost key, and login by password":       {keys: []DoorKey{lost}, others: []Other{{Sort: Password, User: "debian"}}, inside: looked, besides: []string{"login by password"}, reason: NotRecorded},
		"a recorded key, trusted as an authority": {keys: []DoorKey{authority}, inside: looked, besides: []string{"a certificate authority (day-crew)"}, reason: NotRecorded},
		"nobody has looked":                       {keys: []DoorKey{recorded}, sole: "day-crew", notSeen: "nobody has looked", reason: SoleOpenerKey},
		"the last look failed":                    {keys: []DoorKey{recorded}, inside: Looked{SeenAt: at, Trouble: "it does not answer"}, sole: "day-crew", notSeen: "it does not answer", reason: SoleOpenerKey},
	} {
		d := Door{Name: "berth-1", LoginUser: "debian", Running: true, Keys: c.keys, Others: c.others, Inside: c.inside,
			CreatedAt: at}
		o := d.Opening()
		sole, ok := o.Sole()
		if sole.Key != c.sole || ok != (c.sole != "") || o.Nobody() != c.nobody {
			t.Errorf("%s: sole %q %v, nobody %v", name, sole.Key, ok, o.Nobody())
		}
		for _, want := range c.besides {
			if !strings.Contains(o.Besides(), want) {
				t.Errorf("%s: besides %q lacks %q", name, o.Besides(), want)
			}
		}
		if len(c.besides) == 0 && o.Besides() != "" {
			t.Errorf("%s: besides %q", name, o.Besides())
		}
		if (c.notSeen == "") != (o.NotSeen == "") || !strings.Contains(o.NotSeen, c.notSeen) {
			t.Errorf("%s: not seen %q", name, o.NotSeen)
		}
		matters, _ := Policy{}.Judge(d, at)
		var got Reason
		for _, m := range matters {
			if m.Reason == SoleOpenerKey || m.Reason == NoWayIn || m.Reason == NotRecorded {
				got = m.Reason
			}
		}
		if got != c.reason {
			t.Errorf("%s: today says %q, want %q", name, got, c.reason)
		}
	}
}

func userOf(k DoorKey, user string) DoorKey {
	k.LoginUser = user
	return k
}

func standing(k DoorKey, at time.Time) DoorKey {
	k.There = &There{Place: ".ssh/authorized_keys:1", From: "steward", At: at}
	return k
}
