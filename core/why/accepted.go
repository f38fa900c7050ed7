package why

import (
	"regexp"
	"strconv"
	"strings"
	"time"

	"plumlatch/core/loginlog"
	"plumlatch/core/plaintext"
)

// SSHDSession is a login that sshd let in, as a process that still runs.
type SSHDSession struct {
	PID         int    // of the process that logged it: it ends with the session
	User        string // login user
	From        string // address; "" if the log does not say
	Fingerprint string // SHA256:... of the key that opened it; "" if the log does not say
	Own         bool   // it is the one that asks
}

var (
	sessionLine = regexp.MustCompile(`^\s*(\d+)\s+(\d+)\s+sshd(?:-session)?: (\S{1,64}) \[priv\]`)
	rootLine    = regexp.MustCompile(`^\s*(\d+)\s+(\d+)\s+sshd(?:-session)?: (root)@(?:notty|pts/\d+)`)
	processLine = regexp.MustCompile(`^\s*(\d+)\s+(\d+)\s`)
)

// ReadSessions puts together which key opened which session of a login user:
// from sshd's own log (auth.log(5), or the journal of systemd), and from the
// processes as "ps -eo pid=,ppid=,args=" shows them. A process ID comes again
// in time, so the last line of the log that has it counts. own is the process
// ID of a shell of the session that asks.
func ReadSessions(log, processes, user string, own int) []SSHDSession {
	type accepted struct{ user, from, fingerprint string }
	last := map[int]accepted{}
	for line := range strings.Lines(log) {
		// A line counts from its beginning on: a user name that somebody made up may look like the rest of one. Its year is of no matter here.
		if l, ok := loginlog.Text(line, time.Unix(0, 0).UTC()); ok && l.Print != "" {
			last[l.PID] = accepted{l.User, l.From.String(), l.Print}
		}
	}
	parent := map[int]int{}
	var out []SSHDSession
	for line := range strings.Lines(processes) {
		if m := processLine.FindStringSubmatch(line); m != nil {
			pid, _ := strconv.Atoi(m[1])
			parent[pid], _ = strconv.Atoi(m[2])
		}
		m := sessionLine.FindStringSubmatch(line)
		if m == nil {
			m = rootLine.FindStringSubmatch(line)
		}
		if m == nil || m[3] != user {
			continue
		}
		pid, _ := strconv.Atoi(m[1])
		s := SSHDSession{PID: pid, User: user}
		if a, ok := last[pid]; ok && a.user == user {
			s.From, s.Fingerprint = plaintext.Line(a.from), a.fingerprint
		}
		out = append(out, s)
	}
	ours := map[int]bool{}
	for pid, n := own, 0; pid > 1 && n < 64; pid, n = parent[pid], n+1 {
		ours[pid] = true
	}
	for n := range out {
		out[n].Own = ours[out[n].PID]
	}
	return out
}
