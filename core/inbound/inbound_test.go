package inbound

import (
	"errors"
	"net/netip"
	"strings"
	"testing"
	"time"
)

func TestParseRange(t *testing.T) {
	for text, want := range map[string]string{
		"198.51.100.0/24": "198.51.100.0/24", "198.51.100.7": "198.51.100.7/32", "0.0.0.0/0": "0.0.0.0/0",
		"2001:db8::/32": "2001:db8::/32", "2001:db8::1": "2001:db8::1/128",
		"::ffff:198.51.100.7": "198.51.100.7/32",
	} {
		if p, err := ParseRange(text); err != nil || p.String() != want {
			t.Errorf("%s: %s %v", text, p, err)
		}
	}
	for text, want := range map[string]error{
		"198.51.100.7/24": ErrHostBits, "2001:db8::1/32": ErrHostBits, "198.51.100.0/33": ErrRange,
		"office": ErrRange, "": ErrRange, "198.51.100.0/24\n": ErrRange,
		"fe80::1%eth0": ErrRange, "::ffff:198.51.100.0/120": ErrRange, "198.51.100/24": ErrRange,
		"198.51.100.0/-1": ErrRange,
	} {
		if p, err := ParseRange(text); !errors.Is(err, want) {
			t.Errorf("%q: %s %v, want %v", text, p, err, want)
		}
	}
	if _, err := ParseRange("198.51.100.7/24"); !strings.Contains(err.Error(), "198.51.100.0/24") {
		t.Errorf("no network is suggested: %v", err)
	}
}

func TestWorldAndFamily(t *testing.T) {
	for text, want := range map[string]bool{"0.0.0.0/0": true, "128.0.0.0/1": true, "::/0": true, "2000::/3": true,
		"10.0.0.0/8": false, "198.51.100.7/32": false, "2001:db8::/32": false} {
		if got := World(netip.MustParsePrefix(text)); got != want {
			t.Errorf("%s: %v", text, got)
		}
	}
	v4, v6 := netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("2001:db8::/32")
	if CheckFamily(v4, "192.0.2.1") != nil || CheckFamily(v6, "2001:db8::1") != nil || CheckFamily(v4, "") != nil {
		t.Error("a good one is refused")
	}
	if !errors.Is(CheckFamily(v6, "192.0.2.1"), ErrFamily) || !errors.Is(CheckFamily(v4, "2001:db8::1"), ErrFamily) {
		t.Error("the wrong family is taken")
	}
}

// TestPeopleComeIn holds rule 1 for inbound rules: what has an end does not
// count, nor what only the service comes in by.
func TestPeopleComeIn(t *testing.T) {
	office := Rule{ID: "office", From: netip.MustParsePrefix("198.51.100.0/24")}
	guest := Rule{ID: "guest", From: netip.MustParsePrefix("203.0.113.9/32"), Until: time.Unix(9e9, 0)}
	service := Rule{ID: "service", From: netip.MustParsePrefix("192.0.2.1/32"), Service: true}
	for what, c := range map[string]struct {
		rules   []Rule
		without []string
		want    bool
	}{
		"one": {[]Rule{office}, nil, true}, "without it": {[]Rule{office}, []string{"office"}, false},
		"an end":             {[]Rule{guest}, nil, false},
		"the service's":      {[]Rule{service}, nil, false},
		"all but the office": {[]Rule{office, guest, service}, []string{"office"}, false},
		"another stays":      {[]Rule{guest, office, service}, []string{"guest", "service"}, true},
		"none":               {nil, nil, false},
	} {
		if got := PeopleComeIn(c.rules, c.without...); got != c.want {
			t.Errorf("%s: %v", what, got)
		}
	}
	if r, ok := Admits([]Rule{guest, office}, netip.MustParseAddr("::ffff:198.51.100.4")); !ok || r.ID != "office" {
		t.Errorf("%+v %v", r, ok)
	}
	if _, ok := Admits([]Rule{guest, office}, netip.MustParseAddr("198.51.101.4")); ok || Words(nil) != "nobody" {
		t.Error("a stranger is let in")
	}
}

func FuzzParseRange(f *testing.F) {
	for _, s := range []string{"198.51.100.0/24", "198.51.100.7", "::/0", "fe80::1%a/64", "1.2.3.4/-0"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		p, err := ParseRange(text)
		if err != nil {
			return
		}
		if again, err := ParseRange(p.String()); err != nil || again != p || p != p.Masked() {
			t.Errorf("%q: %s, and again %s %v", text, p, again, err)
		}
	})
}

func TestParsePorts(t *testing.T) {
	for text, want := range map[string]Ports{"9000": {9000, 9000}, "9000-9001": {9000, 9001}, "1-65535": {1, 65535}} {
		p, err := ParsePorts(text)
		if err != nil || p != want || p.String() != text {
			t.Errorf("%s: %v, %v", text, p, err)
		}
	}
	for _, text := range []string{"", "0", "65536", "-1", "9001-9000", "9000-", "-9000", "ssh", "9000-9001-9002", "9000,9001", " 9000", "0x10"} {
		if p, err := ParsePorts(text); !errors.Is(err, ErrPorts) {
			t.Errorf("%q: %v, %v", text, p, err)
		}
	}
	if _, err := ParsePorts("9001-9000"); err == nil || !strings.Contains(err.Error(), "did you mean 9000-9001?") {
		t.Errorf("turned round: %v", err)
	}
}

func TestWord(t *testing.T) {
	from := netip.MustParsePrefix("198.51.100.0/24")
	for word, ports := range map[string]Ports{"198.51.100.0/24": {}, "198.51.100.0/24 port 9000": {9000, 9000},
		"198.51.100.0/24 port 9000-9001": {9000, 9001}} {
		if got := Word(from, ports); got != word {
			t.Errorf("%q, want %q", got, word)
		}
		if p, to, err := ParseWord(word); err != nil || p != from || to != ports {
			t.Errorf("%q: %v %v %v", word, p, to, err)
		}
	}
	for _, word := range []string{"", "198.51.100.0", "198.51.100.0/24 port", "198.51.100.0/24 port 0", " port 9000"} {
		if _, _, err := ParseWord(word); err == nil {
			t.Errorf("%q was read", word)
		}
	}
}

// A rule of another port lets nobody log in: it admits nobody to the SSH port, and is no way for people.
func TestOtherPortsAreNoWayIn(t *testing.T) {
	rules := []Rule{{ID: "web", From: netip.MustParsePrefix("0.0.0.0/0"), Ports: Ports{7080, 7080}}}
	if _, ok := Admits(rules, netip.MustParseAddr("198.51.100.7")); ok {
		t.Error("a rule of another port admits to the SSH port")
	}
	if PeopleComeIn(rules) {
		t.Error("people come in by a rule of another port")
	}
}

func FuzzParseWord(f *testing.F) {
	f.Add("198.51.100.0/24 port 9000-9001")
	f.Add("2001:db8::/32")
	f.Fuzz(func(t *testing.T, word string) {
		if from, ports, err := ParseWord(word); err == nil {
			again, to, err := ParseWord(Word(from, ports))
			if err != nil || again != from || to != ports {
				t.Errorf("%q: %v %v %v", word, again, to, err)
			}
		}
	})
}
