package libvirt

import (
	"net/http/httptest"
	"net/netip"
	"testing"
	"time"

	"plumlatch/service/cloud/drivertest"
	"plumlatch/service/cloud/standin"
	standincloud "plumlatch/standin"
)

// differs are the cases in which the stand-in and libvirt are not to be the same, and why.
var differs = map[string]string{
	"the root volume's device":              "it is each cloud's own word, and nobody compares it with another's",
	"its address is static":                 "the stand-in has dynamic addresses and static ones; a libvirt machine has one for its life",
	"its address while it is stopped":       "the same",
	"remove an instance whose root is lent": "a root volume of the pool is called after its instance, and would have no home; the stand-in's is a thing of its own, as in most clouds",
}

// TestCompared has libvirt and the stand-in cloud go through one table of cases. The stand-in was written by us: where it does something that no
// real host does, whatever was shown on it was not shown.
func TestCompared(t *testing.T) {
	d := startDaemon(t)
	real := drivertest.Observe(t, d.driver(t, "127.61.3.0/24"), drivertest.Options{Region: "quay-host", Image: "bare", Size: "small", Name: "board-", BadName: "Board_1",
		Patience: 60 * time.Second, NoSystem: true})
	c, err := standincloud.Open(standincloud.Options{Folder: t.TempDir(), Network: netip.MustParsePrefix("127.61.128.0/20"), Pace: 20 * time.Millisecond})
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(c.Handler("compared"))
	t.Cleanup(func() { server.Close(); c.Close() })
	ours := drivertest.Observe(t, standin.New(server.URL, "compared"), drivertest.Options{Region: "north-pier", Image: "debian-12", Size: "small", Name: "board-", BadName: "Board_1",
		Patience: 20 * time.Second})
	if len(real) != len(ours) {
		t.Errorf("libvirt went through %d cases, and the stand-in through %d", len(real), len(ours))
	}
	for n, r := range real {
		if n >= len(ours) || ours[n].Case != r.Case {
			t.Errorf("%s: the stand-in did not come to it", r.Case)
			continue
		}
		t.Logf("%-55s libvirt: %-12s stand-in: %s", r.Case, r.Did, ours[n].Did)
		if why := differs[r.Case]; (r.Did == ours[n].Did) == (why != "") {
			t.Errorf("%s: libvirt: %s; the stand-in: %s; %q", r.Case, r.Did, ours[n].Did, why)
		}
	}
}
