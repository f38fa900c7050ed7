package reach

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
)

// listenScript prints the command line of each SSH server that runs (sshd sets its own title: it begins with "sshd: " and names the command).
const listenScript = `%sfor p in $(servers); do
  [ -r "/proc/$p/cmdline" ] && echo "server $(tr '\000' ' ' < "/proc/$p/cmdline" | head -c 2000)"
done
echo plumlatch-end`

// Errors of a machine whose SSH server is not found.
var (
	ErrNoServer   = errors.New("no SSH server runs there")
	ErrNoLoopback = errors.New("its SSH server does not listen on loopback (ListenAddress)")
)

// OwnSSH finds where the SSH server of the machine that this program runs on listens on loopback, by the settings that the running server was started with
// (sshd(8), -T). Nothing but what it says is ever returned. ErrNoServer, ErrNoLoopback.
func OwnSSH(ctx context.Context, host Host) (netip.AddrPort, error) {
	text, err := capture(ctx, host, fmt.Sprintf(listenScript, host.servers()))
	if err != nil || !strings.Contains(text, "plumlatch-end") {
		return netip.AddrPort{}, errors.Join(errors.New("which SSH server runs there could not be seen"), err)
	}
	found := false
	for line := range strings.Lines(text) {
		command, is := strings.CutPrefix(strings.TrimSpace(line), "server ")
		if !is {
			continue
		}
		args := sshdArgs(command)
		if args == nil {
			continue
		}
		found = true
		settings, err := capture(ctx, host, sshdTest("root", "", args))
		if err != nil {
			return netip.AddrPort{}, fmt.Errorf("what its SSH server listens on could not be seen: %w", err)
		}
		if at, ok := loopbackOf(settings); ok {
			return at, nil
		}
	}
	if !found {
		return netip.AddrPort{}, ErrNoServer
	}
	return netip.AddrPort{}, ErrNoLoopback
}

// loopbackOf reads the output of sshd -T: the first address that a connection by loopback reaches.
func loopbackOf(text string) (netip.AddrPort, bool) {
	for line := range strings.Lines(text) {
		word, value, _ := strings.Cut(strings.TrimSpace(line), " ")
		at, err := netip.ParseAddrPort(value)
		if word != "listenaddress" || err != nil {
			continue
		}
		switch a := at.Addr().Unmap(); {
		case a.IsLoopback():
			return netip.AddrPortFrom(a, at.Port()), true
		case a == netip.IPv4Unspecified():
			return netip.AddrPortFrom(netip.MustParseAddr("127.0.0.1"), at.Port()), true
		case a == netip.IPv6Unspecified():
			return netip.AddrPortFrom(netip.IPv6Loopback(), at.Port()), true
		}
	}
	return netip.AddrPort{}, false
}
