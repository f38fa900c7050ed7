package reach

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"plumlatch/core/why"
)

// ErrNoSudo: only root may end the sessions of sshd.
var ErrNoSudo = errors.New("neither root nor sudo without a password: sessions cannot be ended from here")

// sessionsScript prints sshd's log of logins, from wherever it is kept, the
// processes, and the process ID of its own shell.
const sessionsScript = `own=$$
{ journalctl -q --no-pager -t sshd -t sshd-session 2>/dev/null; cat /var/log/auth.log.1 /var/log/auth.log /var/log/secure 2>/dev/null; } | grep 'Accepted publickey for ' | tail -n 1500
echo plumlatch-log
ps -eo pid=,ppid=,args= | grep -v 'plumlatch-log' | cut -c 1-200
echo plumlatch-own $own`

// Sessions lists the sessions of user that run on a server, with the key that
// opened each as far as sshd's log tells. ErrNoSudo.
func Sessions(ctx context.Context, host Host, user string) ([]why.SSHDSession, error) {
	prefix, err := rootPrefix(ctx, host)
	if err != nil {
		return nil, err
	}
	text, err := capture(ctx, host, prefix+"sh -c "+shellQuote(sessionsScript))
	log, rest, ok := strings.Cut(text, "plumlatch-log\n")
	processes, own, ok2 := strings.Cut(rest, "plumlatch-own ")
	if err != nil || !ok || !ok2 {
		return nil, fmt.Errorf("the sessions could not be listed: %w",
			errors.Join(err, errors.New("the server's answer is cut")))
	}
	pid, err := strconv.Atoi(strings.TrimSpace(own))
	if err != nil {
		return nil, fmt.Errorf("the sessions could not be listed: %w", err)
	}
	return why.ReadSessions(log, processes, user, pid), nil
}

// EndSessions ends sessions: whatever was started in them and is still theirs
// first, then sshd's own processes. It returns those that are still there.
func EndSessions(ctx context.Context, host Host, all []why.SSHDSession) (left []int, err error) {
	prefix, err := rootPrefix(ctx, host)
	if err != nil {
		return nil, err
	}
	var pids []string
	for _, s := range all {
		if s.Own || s.PID <= 1 {
			return nil, errors.New("this would end the session that asks, or init: nothing was ended")
		}
		pids = append(pids, strconv.Itoa(s.PID))
	}
	if len(pids) == 0 {
		return nil, nil
	}
	// The tree is read before anything ends: afterwards its parents are gone.
	script := `all="` + strings.Join(pids, " ") + `"; next=$all
while [ -n "$next" ]; do more=""
for p in $next; do more="$more $(ps -o pid= --ppid "$p" | tr -d ' ' | tr '\n' ' ')"; done
next=$(echo $more); all="$all $next"; done
rev=""; for p in $all; do rev="$p $rev"; done
for p in $rev; do kill -HUP "$p" 2>/dev/null; done
sleep 0.3
for p in $rev; do kill -TERM "$p" 2>/dev/null; done
sleep 0.5
for p in ` + strings.Join(pids, " ") + `; do kill -0 "$p" 2>/dev/null && echo left "$p"; done
echo plumlatch-end`
	text, err := capture(ctx, host, prefix+"sh -c "+shellQuote(script))
	if !strings.Contains(text, "plumlatch-end") {
		return nil, fmt.Errorf("whether the sessions ended is not known: %w",
			errors.Join(err, errors.New("the server's answer is cut")))
	}
	for line := range strings.Lines(text) {
		if pid, ok := strings.CutPrefix(strings.TrimSpace(line), "left "); ok {
			if n, err := strconv.Atoi(pid); err == nil {
				left = append(left, n)
			}
		}
	}
	return left, nil
}

// rootPrefix is what is put before a command that root has to run. ErrNoSudo.
func rootPrefix(ctx context.Context, host Host) (string, error) {
	text, err := capture(ctx, host, "id -u; sudo -n id -u 2>/dev/null; echo plumlatch-end")
	if err != nil && !strings.Contains(text, "plumlatch-end") {
		return "", err
	}
	f := strings.Fields(text)
	switch {
	case len(f) > 0 && f[0] == "0":
		return "", nil
	case len(f) > 1 && f[1] == "0":
		return "sudo -n ", nil
	}
	return "", ErrNoSudo
}

// shellQuote makes one word of a text for sh.
func shellQuote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
