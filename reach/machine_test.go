package reach

import (
	"io"
	"net"
	"os/exec"
	"slices"
	"testing"

	"github.com/pkg/sftp"

	"plumlatch/core/comeback"
)

// byServer is what is read by a server, with no connection that could be cut.
type byServer struct {
	Files
	s *sftp.Client
}

func (b byServer) Open(name string) (io.ReadSeekCloser, error) { return b.s.Open(name) }

func (b byServer) ReadDir(name string, _ int) (names []string, _ map[string]FileInfo, err error) {
	all, err := b.s.ReadDir(name)
	for _, f := range all {
		names = append(names, f.Name())
	}
	return names, nil, err
}

// TestReadMachine reads this machine by OpenSSH's own sftp-server: tables of the kernel come in pages, and each port that is opened
// here is seen, however many there are.
func TestReadMachine(t *testing.T) {
	t.Parallel()
	const server = "/usr/lib/openssh/sftp-server"
	if _, err := exec.LookPath(server); err != nil {
		t.Skip(err)
	}
	cmd := exec.Command(server, "-R")
	in, err := cmd.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	s, err := sftp.NewClientPipe(out, in)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close(); _ = cmd.Wait() })

	var want []int
	for range 150 {
		l, err := net.Listen("tcp4", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		defer l.Close()
		want = append(want, l.Addr().(*net.TCPAddr).Port)
	}
	m := ReadMachine(byServer{s: s})
	for _, port := range want {
		if !slices.Contains(m.Ports, comeback.Port{Number: port, Local: true}) {
			t.Fatalf("port %d is open here, and among %d it is not seen", port, len(m.Ports))
		}
	}
	if m.Mounted == nil || m.Written == nil || m.Enabled == nil {
		t.Errorf("not seen: %+v", m)
	}
}
