package reach

import (
	"errors"
	"testing"
)

func TestPolicy(t *testing.T) {
	p := Policy{}
	for _, a := range []string{
		"127.0.0.1", "::1", "0.0.0.0", "::", "169.254.169.254", "fe80::1", "224.0.0.1", "ff02::1", "not-an-address",
		"::ffff:169.254.169.254", "::ffff:127.0.0.1",
		"fd00:0ec2::254", "fd00:0ec2::23", "fd20:ce::254", "100.100.100.200", "168.63.129.16", "192.0.0.192",
		"::ffff:100.100.100.200",
		"64:ff9b::169.254.169.254", "64:ff9b::7f00:1", "64:ff9b::100.100.100.200", "64:ff9b:1::169.254.169.254",
		"64:ff9b:1:a9fe:a9:fe00::",
		"2002:a9fe:a9fe::1", "2002:7f00:1::", "::169.254.169.254", "::127.0.0.1", "2001:0:a9fe:a9fe::1",
		"2001:0:c000:201::5601:5601", "2001:db8::5efe:169.254.169.254", "2001:db8::200:5efe:127.0.0.1",
	} {
		if _, err := p.Check(a, 22); !errors.Is(err, ErrPolicy) {
			t.Errorf("%s may be dialled: %v", a, err)
		}
	}
	for _, a := range []string{"192.0.2.7", "10.1.2.3", "172.16.0.1", "2001:db8::7", "fd12:3456::1",
		"64:ff9b::192.0.2.7", "2002:c000:207::1", "100.64.0.1"} {
		if _, err := p.Check(a, 22); err != nil {
			t.Errorf("%s may not be dialled: %v", a, err)
		}
	}
	for _, port := range []int{0, -1, 65536} {
		if _, err := p.Check("192.0.2.7", port); !errors.Is(err, ErrPolicy) {
			t.Errorf("port %d may be dialled", port)
		}
	}
}
