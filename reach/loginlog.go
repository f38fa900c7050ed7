package reach

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"plumlatch/core/loginlog"
	"plumlatch/core/plaintext"
)

// Logins is what an instance's own log tells of who came in.
type Logins struct {
	Source string    // "journal", or the name of the text file that is written now; "" if there is no log
	Since  time.Time // of the oldest entry of the log, by the instance's clock; zero if it was not told
	Clock  time.Time // the instance's clock as it was read, to the second
	Read   time.Time // when that was, by the clock of this machine
	Cut    bool      // there was more than is read at one time
	Tally  loginlog.Tally
}

// Limits of reading a log.
const (
	maxLogLines = 1_000_000
	maxLogBytes = 512 << 20
	logLimit    = 10 * time.Minute
)

// ErrNoLog says that no log can be read there.
var ErrNoLog = errors.New("no log of logins can be read there: neither the journal nor auth.log or secure; only root may, as a rule")

// logScript prints what the server wrote of logins since a time, in seconds: of the journal, if that has anything by root, else of the
// text files of a folder, rotated ones too, the oldest first. It changes nothing. What is printed is chosen by grep there, since a log
// can have gigabytes; what of it counts is decided here. A crash can leave gigabytes of NUL bytes in a file, which grep would take for
// one line, and hold all of it in memory: so its memory is bounded, and a file that needs more is read anew, with its lines cut, which
// takes longer. Files that were rotated while they were read are read again.
const logScript = `umask 077
exec 3>&1
some() { LC_ALL=C grep -a -E 'sshd(-session)?\[[0-9]+\]: Accepted '; }
echo "%[3]szone $(date +%%z)"
if command -v journalctl >/dev/null 2>&1 && [ -n "$(journalctl -q --no-pager -n 1 -o cat _UID=0 2>/dev/null)" ]; then
  echo "%[3]ssource journal"
  echo "%[3]ssince $(journalctl -q --no-pager -o short-unix 2>/dev/null | head -n 1 | cut -d. -f1)"
  journalctl -q --no-pager -o json --output-fields=_UID,_EXE,_SYSTEMD_UNIT,MESSAGE --since "@%[1]d" _COMM=sshd + _COMM=sshd-session 2>/dev/null |
    grep -a '"Accepted ' | head -n %[2]d
else
  for base in %[4]s/auth.log %[4]s/secure; do
    [ -r "$base" ] || continue
    for turn in 1 2 3; do
      echo "%[3]ssource ${base##*/}"
      files=$(ls -1tri "$base" "$base".* "$base"-* 2>/dev/null)
      printf '%%s\n' "$files" | while read -r number f; do
        [ -f "$f" ] && [ -r "$f" ] || continue
        echo "%[3]sfile $(stat -c %%Y "$f")"
        echo "%[3]soldest $(zcat -f "$f" 2>/dev/null | head -c 64k | tr -s '\000' '\n' | grep -a -m 1 . | cut -c1-40)"
        [ "$(stat -c %%Y "$f")" -ge %[1]d ] || continue
        left=$({ zcat -f "$f" 2>/dev/null | { ulimit -v 262144; some 2>/dev/null; echo $? >&4; } | head -n %[2]d >&3; } 4>&1)
        case $left in
        0 | 1 | 141) ;; # found, not found, more than is read
        *)
          echo "%[3]safresh"
          zcat -f "$f" 2>/dev/null | tr -s '\000' '\n' | cut -b 1-4096 | some | head -n %[2]d
          ;;
        esac
      done
      [ "$files" != "$(ls -1tri "$base" "$base".* "$base"-* 2>/dev/null)" ] || break
      echo "%[3]srotated $turn"
    done
    break
  done
fi
echo "%[3]sclock $(date +%%s)"
`

// ReadLogins reads the login log of an instance in a session of an engineer's, as root where sudo lets it, from a time on; the whole
// of it for the zero time. Days are counted whole, so that a caller goes on at the beginning of the last day that it has. ErrNoLog.
func ReadLogins(ctx context.Context, host Host, since time.Time) (out Logins, err error) {
	r := logReader{out: &out, since: since, mark: "plumlatch-" + rand.Text() + "-"}
	script := r.script("/var/log")
	prefix, err := rootPrefix(ctx, host)
	if err != nil && !errors.Is(err, ErrNoSudo) {
		return out, err
	}
	command := prefix + "sh -c " + shellQuote(script)
	err = host.output(ctx, command, nil, logLimit, maxLogBytes, r.read)
	switch {
	case err != nil:
		return out, err
	case out.Source == "":
		return out, ErrNoLog
	case out.Clock.IsZero():
		return out, errors.New("the log was not read to its end")
	}
	return out, nil
}

// logReader takes in what logScript prints.
type logReader struct {
	out     *Logins
	mark    string // begins each line that the script prints itself: nobody who writes to the log knows it
	since   time.Time
	zone    *time.Location
	written time.Time // when the file was last written whose lines follow
	lines   int
	file    loginlog.Tally // of the file at hand
}

// script is what is run on the instance, whose text files are in a folder.
func (r *logReader) script(folder string) string {
	return fmt.Sprintf(logScript, max(r.since.Unix(), 0), maxLogLines, r.mark, folder)
}

// logTurns is how many times the text files are read, if they are rotated meanwhile.
const logTurns = "3"

func (r *logReader) read(text io.Reader) error {
	in := bufio.NewReaderSize(text, 64<<10)
	for {
		line, long, err := in.ReadLine()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		for more := long; more && err == nil; { // none of the server's is so long
			_, more, err = in.ReadLine()
		}
		if !long {
			r.take(line)
		}
	}
}

func (r *logReader) take(line []byte) {
	own, ok := bytes.CutPrefix(line, []byte(r.mark))
	if !ok {
		r.login(line)
		return
	}
	name, value, _ := strings.Cut(string(own), " ")
	switch name {
	case "zone":
		if t, err := time.Parse("-0700", value); err == nil {
			_, offset := t.Zone()
			r.zone = time.FixedZone("", offset)
		}
	case "rotated":
		if value == logTurns {
			r.out.Cut = true
		}
	case "source": // again, if files were rotated
		r.out.Tally, r.file, r.out.Since, r.written, r.lines = loginlog.Tally{}, loginlog.Tally{}, time.Time{}, time.Time{}, 0
		r.out.Source = plaintext.Line(plaintext.Cut(value, 40))
	case "since":
		r.oldest(seconds(value))
	case "afresh": // the same file
		r.file, r.lines = loginlog.Tally{}, 0
	case "file":
		r.join()
		if r.written = seconds(value); r.zone != nil {
			r.written = r.written.In(r.zone)
		}
		r.lines = 0
	case "oldest":
		r.oldest(loginlog.TimeOf(value, r.written))
	case "clock":
		r.join()
		r.out.Clock, r.out.Read = seconds(value), time.Now()
	}
}

// join takes in what was read of the file at hand.
func (r *logReader) join() {
	r.out.Tally.Join(&r.file)
	r.file = loginlog.Tally{}
}

func (r *logReader) oldest(t time.Time) {
	if !t.IsZero() && (r.out.Since.IsZero() || t.Before(r.out.Since)) {
		r.out.Since = t.UTC()
	}
}

func (r *logReader) login(line []byte) {
	var l loginlog.Login
	is := false
	if r.out.Source == "journal" {
		e, err := loginlog.Journal(line)
		l, is = e.Login, err == nil && e.Is
	} else {
		l, is = loginlog.Text(string(line), r.written)
	}
	if r.lines++; r.lines >= maxLogLines {
		r.out.Cut = true
	}
	if is && !l.At.Before(r.since) {
		r.file.Add(l)
	}
}

func seconds(text string) time.Time {
	n, err := strconv.ParseInt(strings.TrimSpace(text), 10, 64)
	if err != nil || n <= 0 || n > 1<<40 {
		return time.Time{}
	}
	return time.Unix(n, 0).UTC()
}
