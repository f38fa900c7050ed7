package comeback

import (
	"bytes"
	"errors"
	"fmt"
	"net"
	"os"
	"reflect"
	"slices"
	"testing"
)

// TestListening reads tables, and the one of this machine: a port that is opened is in it, and one that was closed is not.
func TestListening(t *testing.T) {
	const head = "  sl  local_address rem_address   st\n"
	for _, c := range []struct {
		name, text string
		want       []Port
		err        error
	}{
		{"none", head, []Port{}, nil},
		{"for all, and for loopback", head + "0: 00000000:0016 00000000:0000 0A\n1: 0100007F:1538 00000000:0000 0A\n",
			[]Port{{22, false}, {5432, true}}, nil},
		{"a connection", head + "0: 0100007F:0016 0100007F:1538 01\n", []Port{}, nil},
		{"IPv6: for all, loopback, and IPv4 within", head + "0: 00000000000000000000000000000000:0050 0:0 0A\n" +
			"1: 00000000000000000000000001000000:1F90 0:0 0A\n2: 0000000000000000FFFF00000100007F:1F91 0:0 0A\n",
			[]Port{{80, false}, {8080, true}, {8081, true}}, nil},
		{"both", head + "0: 0100007F:0016 0:0 0A\n1: 0A00000A:0016 0:0 0A\n", []Port{{22, false}}, nil},
		{"short", head + "0: 00000000:0016\n", nil, ErrTable},
		{"no number", head + "0: 00000000:0G16 0:0 0A\n", nil, ErrTable},
		{"half an address", head + "0: 0000:0016 0:0 0A\n", nil, ErrTable},
	} {
		if got, err := Listening([]byte(c.text)); !errors.Is(err, c.err) || !reflect.DeepEqual(got, c.want) {
			t.Errorf("%s: %v %v", c.name, got, err)
		}
	}
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	want := Port{l.Addr().(*net.TCPAddr).Port, true}
	for _, open := range []bool{true, false} {
		text, err := os.ReadFile(TCP)
		if err != nil {
			t.Skip(err)
		}
		got, err := Listening(text)
		if err != nil || slices.Contains(got, want) != open {
			t.Errorf("this machine, open %t: %v %v", open, got, err)
		}
		l.Close()
	}
}

func TestMountPoints(t *testing.T) {
	for _, c := range []struct {
		text string
		want []string
		err  error
	}{
		{"", []string{}, nil},
		{"/dev/vda1 / ext4 rw 0 0\nproc /proc proc rw 0 0\ntmpfs /tmp tmpfs rw 0 0\n/dev/vdb /srv/log\\040book xfs rw 0 0\n",
			[]string{"/", "/srv/log book"}, nil},
		{"# comment\nUUID=1-2 / ext4 defaults 0 1\nLABEL=data /srv/ xfs defaults 0 2\n/dev/vdc none swap sw 0 0\nisle:/out /mnt/isle nfs ro 0 0\n",
			[]string{"/", "/mnt/isle", "/srv"}, nil},
		{"/dev/vda1 /\n", nil, ErrTable},
		{"/dev/vda1 srv ext4 rw 0 0\n", nil, ErrTable},
	} {
		if got, err := MountPoints([]byte(c.text)); !errors.Is(err, c.err) || !reflect.DeepEqual(got, c.want) {
			t.Errorf("%q: %q %v", c.text, got, err)
		}
	}
	text, err := os.ReadFile(Mounts)
	if err != nil {
		t.Skip(err)
	}
	if _, err := MountPoints(text); err != nil {
		t.Errorf("this machine: %v", err)
	}
}

// TestDoubts: what runs and is not enabled, what is mounted and not written down; and what was there before a copy was made.
// What was not read is not judged.
func TestDoubts(t *testing.T) {
	enabled := []string{"ssh.service", "cups.socket", "cron.timer", "gate@north.service"}
	m := Machine{Running: Services([]string{"ssh.service", "tide-clock.service", "cups.service", "cron.service", "gate@north.service",
		"gate@south.service", "systemd-journald.service", "x.slice", "bad name.service", "dbus.service"}), Enabled: enabled,
		Ports: []Port{{22, false}, {7080, false}, {5432, true}}, Mounted: []string{"/", "/boot/efi", "/srv", "/mnt/usb"},
		Written: []string{"/", "/srv"}}
	got, seen := Doubts(m)
	want := []Doubt{{Service, "gate@south.service", "it runs, and nothing starts it at boot"},
		{Service, "tide-clock.service", "it runs, and nothing starts it at boot"},
		{Mount, "/mnt/usb", "it is mounted, and fstab does not have it"}}
	if !reflect.DeepEqual(got, want) || !reflect.DeepEqual(seen, []string{Service, Mount}) {
		t.Errorf("doubts: %v %v", got, seen)
	}
	if got, seen := Doubts(Machine{Running: m.Running, Mounted: m.Mounted}); got != nil || seen != nil {
		t.Errorf("with half of it: %v %v", got, seen)
	}
	now := Machine{Running: []string{"ssh.service", "cron.service", "cups.service", "gate@north.service", "gate@south.service"},
		Ports: []Port{{22, false}, {7080, true}, {5432, false}}, Mounted: []string{"/", "/boot/efi"}}
	got, seen = Missing(m, now)
	want = []Doubt{{Service, "tide-clock.service", "it ran before, and does not now"},
		{Listens, "7080", "others could reach it before, and it is on loopback alone now"},
		{Mount, "/srv", "it was mounted before, and is not now"}, {Mount, "/mnt/usb", "it was mounted before, and is not now"}}
	if !reflect.DeepEqual(got, want) || len(seen) != 3 {
		t.Errorf("missing: %v %v", got, seen)
	}
	if got, seen := Missing(m, Machine{}); got != nil || seen != nil {
		t.Errorf("of nothing: %v %v", got, seen)
	}
	if got, _ := Missing(m, m); got != nil {
		t.Errorf("of itself: %v", got)
	}
}

func FuzzTables(f *testing.F) {
	f.Add([]byte("head\n0: 00000000:0016 0:0 0A\n"))
	f.Add([]byte("/dev/vda1 /srv\\040x ext4 rw 0 0\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		if ports, err := Listening(text); err == nil {
			for n, p := range ports {
				if p.Number < 0 || p.Number > 65535 || n > 0 && ports[n-1].Number >= p.Number {
					t.Errorf("%v", ports)
				}
			}
		}
		if points, err := MountPoints(text); err == nil {
			for _, p := range points {
				if p[0] != '/' {
					t.Errorf("%q", points)
				}
			}
		}
		for _, u := range Services([]string{string(text), string(text) + ".service"}) {
			if bytes.ContainsAny([]byte(u), "\n\x00/ ") {
				t.Errorf("%q", u)
			}
		}
	})
}

func ExampleDoubts() {
	doubts, _ := Doubts(Machine{Running: []string{"tide-clock.service"}, Enabled: []string{"ssh.service"}})
	fmt.Println(doubts[0].What, "-", doubts[0].Why)
	// Output: tide-clock.service - it runs, and nothing starts it at boot
}
