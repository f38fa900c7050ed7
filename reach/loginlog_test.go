package reach

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"
)

// logIn is a folder with a log of logins.
type logIn struct {
	t   testing.TB
	dir string
}

// accepted is a line as a server writes it.
func accepted(second int, from string) string {
	return fmt.Sprintf("2026-11-30T10:00:%02d.123456+00:00 gate sshd[7]: Accepted publickey for debian from %s port 22 ssh2: ED25519 SHA256:%s\n", second, from,
		strings.Repeat("A", 43))
}

// write writes a file, later ones with a later time.
func (l logIn) write(name, text string, at int) {
	l.t.Helper()
	file := filepath.Join(l.dir, name)
	if strings.HasSuffix(name, ".gz") {
		var b bytes.Buffer
		z := gzip.NewWriter(&b)
		_, _ = z.Write([]byte(text))
		_ = z.Close()
		text = b.String()
	}
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		l.t.Fatal(err)
	}
	when := time.Date(2026, 11, 30, 10, at, 0, 0, time.UTC)
	if err := os.Chtimes(file, when, when); err != nil {
		l.t.Fatal(err)
	}
}

// read runs the script that an instance is given, and takes in what it prints. While it runs, meanwhile is done at each source.
func (l logIn) read(meanwhile func(line string)) Logins {
	l.t.Helper()
	var out Logins
	r := logReader{out: &out, mark: "plumlatch-test-"}
	script := r.script(l.dir)
	// No journal: the text files are meant.
	cmd := exec.Command("sh", "-c", "journalctl() { :; }\n"+script)
	text, err := cmd.StdoutPipe()
	if err != nil {
		l.t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		l.t.Fatal(err)
	}
	if meanwhile == nil {
		err = r.read(text)
	} else {
		err = r.read(watched{text, meanwhile})
	}
	if err := cmd.Wait(); err != nil {
		l.t.Fatal(err)
	}
	if err != nil || out.Clock.IsZero() {
		l.t.Fatalf("not read to its end: %v %+v", err, out)
	}
	return out
}

// watched tells each piece that is read.
type watched struct {
	from interface{ Read([]byte) (int, error) }
	tell func(string)
}

func (w watched) Read(p []byte) (int, error) {
	n, err := w.from.Read(p)
	w.tell(string(p[:n]))
	return n, err
}

// froms are the addresses that were read, each with its count.
func froms(l Logins) string {
	var out []string
	for _, u := range l.Tally.Uses() {
		out = append(out, fmt.Sprintf("%s %d", u.From, u.Count))
	}
	return strings.Join(out, ", ")
}

// TestLogFiles: rotated and compressed files, files with NUL, escapes and what is no text, one of two gigabytes that is one line.
func TestLogFiles(t *testing.T) { // not in parallel, as it looks at the memory of all
	l := logIn{t, t.TempDir()}
	l.write("auth.log.2.gz", accepted(1, "192.0.2.1"), 1)
	l.write("auth.log.1", accepted(2, "192.0.2.2")+"\x1b[2J\x00\x00\xff\xfe no text\n"+strings.Repeat("x", 1<<20)+"\n"+accepted(3, "192.0.2.2")+
		"\x1b]0;"+accepted(4, "192.0.2.66")+"an end that is cut: 2026-11-30T10:00:05Z gate sshd[7]: Accepted publickey for debian fr", 2)
	l.write("auth.log", accepted(6, "192.0.2.3"), 3)
	if got := froms(l.read(nil)); got != "192.0.2.1 1, 192.0.2.2 2, 192.0.2.3 1" {
		t.Errorf("read %s", got)
	}
	// A crash left two gigabytes of NUL between two logins: more than grep may hold.
	file, err := os.OpenFile(filepath.Join(l.dir, "auth.log"), os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	if _, err := file.WriteAt([]byte("\n"+accepted(7, "192.0.2.4")), 2<<30); err != nil {
		t.Fatal(err)
	}
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	got := l.read(nil)
	runtime.ReadMemStats(&after)
	if froms(got) != "192.0.2.1 1, 192.0.2.2 2, 192.0.2.3 1, 192.0.2.4 1" || got.Source != "auth.log" || got.Cut {
		t.Errorf("read %s of %+v", froms(got), got)
	}
	if took := after.TotalAlloc - before.TotalAlloc; took > 16<<20 {
		t.Errorf("%d bytes were used", took)
	}
}

// TestLogRotated: files that are rotated while they are read are read again: no login is left out, and none counts twice. If that never
// ends, it is told that some may be missing.
func TestLogRotated(t *testing.T) {
	t.Parallel()
	for _, turns := range []int{1, 5} {
		l := logIn{t, t.TempDir()}
		l.write("auth.log.1", accepted(1, "192.0.2.1"), 1)
		l.write("auth.log", strings.Repeat(accepted(2, "192.0.2.2"), 20_000), 2)
		n, begun, last := 0, false, ""
		got := l.read(func(piece string) {
			piece = last + piece // a mark may come in two pieces
			last = piece[max(0, len(piece)-len("plumlatch-test-source")+1):]
			// As logrotate does it, in the middle of a file: the script has listed the files before it names the first one, and the pipe holds
			// what was not read, so that it cannot be done.
			if _, after, ok := strings.Cut(piece, "plumlatch-test-source"); ok {
				begun, piece = true, after
				last = after[max(0, len(after)-len("plumlatch-test-source")+1):]
			}
			if !begun || !strings.Contains(piece, "plumlatch-test-file") || n >= turns {
				return
			}
			n, begun = n+1, false
			for _, step := range [][2]string{{"auth.log.1", fmt.Sprintf("auth.log.%d", n+1)}, {"auth.log", "auth.log.1"}} {
				if err := os.Rename(filepath.Join(l.dir, step[0]), filepath.Join(l.dir, step[1])); err != nil {
					t.Error(err)
				}
			}
			l.write("auth.log", accepted(3, fmt.Sprintf("192.0.2.%d", n+2))+strings.Repeat("x\n", 1<<20), 2+n)
		})
		if got.Cut != (turns > 3) || n == 0 {
			t.Errorf("rotated %d times: %v", n, got.Cut)
		}
		if turns == 1 && froms(got) != "192.0.2.1 1, 192.0.2.2 20000, 192.0.2.3 1" {
			t.Errorf("read %s", froms(got))
		}
	}
}

// BenchmarkReadLog reads a gigabyte of log as an instance and the client do it together, and in turn as zcat and grep alone do: which part of
// their speed it has.
func BenchmarkReadLog(b *testing.B) {
	l := bigLog(b)
	var ours, theirs time.Duration
	for b.Loop() {
		began := time.Now()
		if got := l.read(nil); len(got.Tally.Uses()) == 0 {
			b.Fatal("nothing was read")
		}
		ours += time.Since(began)
		began = time.Now()
		out, err := exec.Command("sh", "-c", "zcat -f "+l.dir+"/auth.log* | grep -a -E 'sshd(-session)?\\[[0-9]+\\]: Accepted ' | wc -l").Output()
		if err != nil || len(out) < 2 {
			b.Fatal(string(out), err)
		}
		theirs += time.Since(began)
	}
	b.ReportMetric(0, "ns/op")
	b.ReportMetric(theirs.Seconds()/ours.Seconds(), "of-zcat-and-grep")
}

// bigLog is a log of a gigabyte, half of it compressed: one line in twenty is a login.
func bigLog(b *testing.B) logIn {
	b.Helper()
	l := logIn{b, b.TempDir()}
	var text strings.Builder
	for n := range 100_000 {
		if n%20 == 0 {
			text.WriteString(accepted(n%60, fmt.Sprintf("192.0.2.%d", n%200)))
		}
		fmt.Fprintf(&text, "2026-11-30T10:00:%02d.123456+00:00 gate sshd[%d]: Connection closed by authenticating user root 192.0.2.%d port %d [preauth]\n", n%60, n,
			n%250, n)
	}
	many := strings.Repeat(text.String(), 256<<20/text.Len())
	l.write("auth.log.2.gz", many, 1)
	l.write("auth.log.3.gz", many, 0)
	l.write("auth.log.1", many, 2)
	l.write("auth.log", many, 3)
	return l
}
