package shell

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// call is one command being run.
type call struct {
	*Shell
	ctx  context.Context
	name string
	args []string
	dir  string
	in   io.Reader
	out  io.Writer
	err  io.Writer
}

var commands map[string]func(*call) int

func init() { // a map literal would be an initialisation cycle: command names itself
	commands = map[string]func(*call) int{
		"cat": cat, "ls": ls, "grep": grep, "sed": sed, "id": id, "stat": stat, "chmod": chmod, "mkdir": mkdir,
		"cp": cp, "mv": mv, "rm": rm, "tail": tail, "head": head, "date": date, "ps": ps, "hostname": hostname,
		"whoami": whoami, "wc": wc, "touch": touch, "uname": uname, "sleep": sleep, "env": env, "tee": tee,
		"command": command, "type": command, "hash": func(*call) int { return 0 }, "pwd": pwd,
		"sync":   func(*call) int { return 0 },
		"umask":  func(c *call) int { c.print("0022\n"); return 0 },
		"ulimit": func(c *call) int { c.print("unlimited\n"); return 0 },
		"kill":   func(c *call) int { return c.fail("not permitted on a stand-in instance") }, "uptime": uptime,
		"rmdir": rm, "readlink": readlink,
		"lsblk": lsblk, "blkid": blkid, "mount": mount, "umount": umount, "findmnt": findmnt, "blockdev": blockdev,
		"cryptsetup": cryptsetup, "dmsetup": dmsetup, "systemctl": systemctl,
		"sudo": sudo, "getent": getent, "cut": cut, "chown": chown, "chcon": chcon,
	}
}

func (c *call) print(format string, a ...any) { fmt.Fprintf(c.out, format, a...) }

func (c *call) fail(format string, a ...any) int {
	fmt.Fprintf(c.err, "%s: %s\n", c.name, fmt.Sprintf(format, a...))
	return 1
}

// cause returns what the system said, without paths of the host.
func cause(err error) string {
	if pe, ok := errors.AsType[*fs.PathError](err); ok {
		err = pe.Err
	}
	if le, ok := errors.AsType[*os.LinkError](err); ok {
		err = le.Err
	}
	if errors.Is(err, fs.ErrNotExist) {
		return "No such file or directory"
	}
	if errors.Is(err, fs.ErrPermission) {
		return "Permission denied"
	}
	return err.Error()
}

func (c *call) path(name string) string { return inside(c.dir, name) }

// options splits "-abc" flags, those in valued with the word after them, from the names.
func (c *call) options(valued string) (map[rune]string, []string) {
	opts := map[rune]string{}
	for i := 0; i < len(c.args); i++ {
		a := c.args[i]
		if a == "--" {
			return opts, c.args[i+1:]
		}
		if len(a) < 2 || a[0] != '-' {
			return opts, c.args[i:]
		}
		for j, r := range a[1:] {
			if strings.ContainsRune(valued, r) {
				if rest := a[1+j+1:]; rest != "" {
					opts[r] = rest
				} else if i+1 < len(c.args) {
					i++
					opts[r] = c.args[i]
				}
				break
			}
			opts[r] = ""
		}
	}
	return opts, nil
}

// eachInput runs f over the named files, or over standard input if there are none.
func (c *call) eachInput(names []string, f func(name string, r io.Reader) error) int {
	if len(names) == 0 {
		names = []string{"-"}
	}
	status := 0
	for _, n := range names {
		if n == "-" {
			if err := f(n, c.in); err != nil {
				status = 1
			}
			continue
		}
		file, err := c.host.Root.Open(c.path(n))
		if err != nil {
			status = c.fail("%s: %s", n, cause(err))
			continue
		}
		if err := f(n, file); err != nil {
			status = c.fail("%s: %s", n, cause(err))
		}
		file.Close()
	}
	return status
}

func cat(c *call) int {
	_, names := c.options("")
	return c.eachInput(names, func(_ string, r io.Reader) error {
		_, err := io.Copy(c.out, r)
		return err
	})
}

func sortEntries(e []fs.DirEntry) {
	slices.SortFunc(e, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
}

func ls(c *call) int {
	opts, names := c.options("")
	if len(names) == 0 {
		names = []string{"."}
	}
	_, long := opts['l']
	_, all := opts['a']
	_, self := opts['d']
	show := func(p string, fi fs.FileInfo, name string) {
		if !long {
			c.print("%s\n", name)
			return
		}
		if fi.Mode()&fs.ModeSymlink != 0 {
			if to, err := c.host.Root.Readlink(p); err == nil {
				name += " -> " + to
			}
		}
		who := c.owner(p)
		c.print("%s 1 %s %s %6d %s %s\n", unixMode(fi.Mode()), who, who, fi.Size(),
			fi.ModTime().UTC().Format("Jan _2 15:04"), name)
	}
	status := 0
	for _, n := range names {
		p := c.path(n)
		fi, err := c.host.Root.Lstat(p)
		if err != nil {
			fmt.Fprintf(c.err, "ls: cannot access '%s': %s\n", n, cause(err))
			status = 2
			continue
		}
		if !fi.IsDir() || self {
			show(p, fi, n)
			continue
		}
		entries, err := c.readDir("/" + p)
		if err != nil {
			status = c.fail("%s: %s", n, cause(err))
			continue
		}
		for _, e := range entries {
			if strings.HasPrefix(e.Name(), ".") && !all {
				continue
			}
			if fi, err := e.Info(); err == nil {
				show(path.Join(p, e.Name()), fi, e.Name())
			}
		}
	}
	return status
}

func unixMode(m fs.FileMode) string {
	s := m.Perm().String()
	switch {
	case m.IsDir():
		return "d" + s[1:]
	case m&fs.ModeSymlink != 0:
		return "l" + s[1:]
	}
	return s
}

func grep(c *call) int {
	opts, rest := c.options("e")
	pattern, ok := opts['e']
	if !ok {
		if len(rest) == 0 {
			return c.fail("no pattern")
		}
		pattern, rest = rest[0], rest[1:]
	}
	has := func(r rune) bool { _, ok := opts[r]; return ok }
	switch {
	case has('F'):
		pattern = regexp.QuoteMeta(pattern)
	case !has('E'):
		pattern = basic(pattern)
	}
	if has('x') {
		pattern = "^(?:" + pattern + ")$"
	}
	if has('i') {
		pattern = "(?i)" + pattern
	}
	re, err := regexp.Compile(pattern)
	if err != nil {
		c.fail("bad pattern")
		return 2
	}
	found := 0
	status := c.eachInput(rest, func(name string, r io.Reader) error {
		n := 0
		err := eachLine(r, func(line string, number int) {
			if re.MatchString(line) == has('v') {
				return
			}
			n++
			if has('q') || has('c') || has('l') {
				return
			}
			prefix := ""
			if len(rest) > 1 {
				prefix = name + ":"
			}
			if has('n') {
				prefix += strconv.Itoa(number) + ":"
			}
			c.print("%s%s\n", prefix, line)
		})
		if has('c') {
			c.print("%d\n", n)
		}
		if has('l') && n > 0 {
			c.print("%s\n", name)
		}
		found += n
		return err
	})
	switch {
	case status != 0:
		return 2
	case found == 0:
		return 1
	}
	return 0
}

// basic turns a POSIX basic regular expression into an extended one.
func basic(p string) string {
	var b strings.Builder
	for i := 0; i < len(p); i++ {
		switch {
		case p[i] == '\\' && i+1 < len(p) && strings.IndexByte("(){}+?|", p[i+1]) >= 0:
			i++
			b.WriteByte(p[i])
		case p[i] == '\\' && i+1 < len(p):
			b.WriteString(p[i : i+2])
			i++
		case strings.IndexByte("(){}+?|", p[i]) >= 0:
			b.WriteByte('\\')
			b.WriteByte(p[i])
		default:
			b.WriteByte(p[i])
		}
	}
	return b.String()
}

// lines makes a reader of lines of f.
func lines(f func(line string)) func(string, io.Reader) error {
	return func(_ string, r io.Reader) error { return eachLine(r, func(l string, _ int) { f(l) }) }
}

func eachLine(r io.Reader, f func(line string, number int)) error {
	br := bufio.NewReader(r)
	for n := 1; ; n++ {
		line, err := br.ReadString('\n')
		if line != "" {
			f(strings.TrimSuffix(line, "\n"), n)
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

func id(c *call) int {
	opts, _ := c.options("")
	_, name := opts['n']
	_, u := opts['u']
	_, g := opts['g']
	switch {
	case (u || g) && name:
		c.print("%s\n", c.host.User)
	case u || g:
		c.print("%d\n", c.host.UID)
	default:
		c.print("uid=%d(%s) gid=%d(%s) groups=%d(%s)\n", c.host.UID, c.host.User, c.host.UID, c.host.User,
			c.host.UID, c.host.User)
	}
	return 0
}

func stat(c *call) int {
	opts, names := c.options("c")
	format, ok := opts['c']
	if !ok {
		format = "%n %s bytes, mode %a, owner %U, changed %y"
	}
	status := 0
	for _, n := range names {
		p := c.path(n)
		fi, err := c.host.Root.Lstat(p)
		if err != nil {
			status = c.fail("%s: %s", n, cause(err))
			continue
		}
		kind := "regular file"
		if fi.IsDir() {
			kind = "directory"
		} else if fi.Mode()&fs.ModeSymlink != 0 {
			kind = "symbolic link"
		}
		c.print("%s\n", strings.NewReplacer("%n", n, "%s", strconv.FormatInt(fi.Size(), 10), "%a",
			strconv.FormatUint(uint64(fi.Mode().Perm()), 8),
			"%A", unixMode(fi.Mode()), "%U", c.owner(p), "%G", c.owner(p), "%Y",
			strconv.FormatInt(fi.ModTime().Unix(), 10),
			"%y", fi.ModTime().UTC().Format("2006-01-02 15:04:05.000000000 -0700"), "%F", kind).Replace(format))
	}
	return status
}

func chmod(c *call) int {
	if len(c.args) < 2 {
		return c.fail("missing operand")
	}
	mode, err := strconv.ParseUint(c.args[0], 8, 12)
	if err != nil {
		return c.fail("give the mode in octal, such as 600")
	}
	return c.each(c.args[1:], func(p string) error { return c.host.Root.Chmod(p, fs.FileMode(mode)) })
}

func (c *call) each(names []string, f func(p string) error) int {
	status := 0
	for _, n := range names {
		if err := f(c.path(n)); err != nil {
			status = c.fail("%s: %s", n, cause(err))
		}
	}
	return status
}

func mkdir(c *call) int {
	opts, names := c.options("m")
	mode := fs.FileMode(0o755)
	if m, ok := opts['m']; ok {
		n, err := strconv.ParseUint(m, 8, 12)
		if err != nil {
			return c.fail("give the mode in octal, such as 700")
		}
		mode = fs.FileMode(n)
	}
	_, parents := opts['p']
	return c.each(names, func(p string) error {
		if parents {
			return c.host.Root.MkdirAll(p, mode)
		}
		return c.host.Root.Mkdir(p, mode)
	})
}

// target returns where a cp or mv of from into to ends.
func (c *call) target(from, to string) string {
	p := c.path(to)
	if fi, err := c.host.Root.Stat(p); err == nil && fi.IsDir() {
		return path.Join(p, path.Base(from))
	}
	return p
}

func cp(c *call) int {
	opts, names := c.options("")
	if len(names) < 2 {
		return c.fail("missing file operand")
	}
	_, keep := opts['p']
	to := names[len(names)-1]
	return c.each(names[:len(names)-1], func(p string) error {
		fi, err := c.host.Root.Stat(p)
		if err != nil {
			return err
		}
		data, err := c.host.Root.ReadFile(p)
		if err != nil {
			return err
		}
		out := c.target(p, to)
		if err := c.host.Root.WriteFile(out, data, fi.Mode().Perm()); err != nil {
			return err
		}
		if keep {
			return errors.Join(c.host.Root.Chmod(out, fi.Mode().Perm()),
				c.host.Root.Chtimes(out, fi.ModTime(), fi.ModTime()))
		}
		return nil
	})
}

func mv(c *call) int {
	_, names := c.options("")
	if len(names) < 2 {
		return c.fail("missing file operand")
	}
	to := names[len(names)-1]
	return c.each(names[:len(names)-1], func(p string) error { return c.host.Root.Rename(p, c.target(p, to)) })
}

func rm(c *call) int {
	opts, names := c.options("")
	_, force := opts['f']
	_, all := opts['r']
	return c.each(names, func(p string) error {
		err := c.host.Root.Remove(p)
		if all && p != "." {
			err = c.host.Root.RemoveAll(p)
		}
		if force && errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	})
}

func lineCount(c *call) (int, []string) {
	opts, names := c.options("n")
	n := 10
	if v, ok := opts['n']; ok {
		n, _ = strconv.Atoi(strings.TrimPrefix(v, "-"))
	}
	return n, names
}

func tail(c *call) int {
	n, names := lineCount(c)
	return c.eachInput(names, func(_ string, r io.Reader) error {
		var last []string
		err := eachLine(r, func(line string, _ int) {
			if last = append(last, line); len(last) > n {
				last = last[1:]
			}
		})
		for _, l := range last {
			c.print("%s\n", l)
		}
		return err
	})
}

func head(c *call) int {
	n, names := lineCount(c)
	return c.eachInput(names, func(_ string, r io.Reader) error {
		return eachLine(r, func(line string, number int) {
			if number <= n {
				c.print("%s\n", line)
			}
		})
	})
}

func date(c *call) int {
	now := c.host.Now().UTC()
	for _, a := range c.args {
		if strings.HasPrefix(a, "+") {
			c.print("%s\n", strings.NewReplacer("%s", strconv.FormatInt(now.Unix(), 10), "%Y", now.Format("2006"),
				"%m", now.Format("01"),
				"%d", now.Format("02"), "%H", now.Format("15"), "%M", now.Format("04"), "%S", now.Format("05"), "%F",
				now.Format("2006-01-02"),
				"%T", now.Format("15:04:05"), "%z", "+0000", "%Z", "UTC").Replace(a[1:]))
			return 0
		}
	}
	c.print("%s\n", now.Format("Mon Jan _2 15:04:05 UTC 2006"))
	return 0
}

func ps(c *call) int {
	c.print("  PID USER     COMMAND\n    1 root     init\n  214 root     sshd: /usr/sbin/sshd -D [listener]\n  301 "+
		"%-8s sshd: %s\n  302 %-8s sh\n",
		c.host.User, c.host.User, c.host.User)
	return 0
}

func hostname(c *call) int { c.print("%s\n", c.host.Name); return 0 }
func whoami(c *call) int   { c.print("%s\n", c.host.User); return 0 }
func pwd(c *call) int      { c.print("%s\n", c.dir); return 0 }

func uptime(c *call) int {
	c.print("up %s\n", c.host.Now().Sub(c.host.Boot).Round(time.Second))
	return 0
}

func wc(c *call) int {
	opts, names := c.options("")
	return c.eachInput(names, func(_ string, r io.Reader) error {
		data, err := io.ReadAll(r)
		counts := []struct {
			flag rune
			n    int
		}{{'l', bytes.Count(data, []byte("\n"))}, {'w', len(bytes.Fields(data))}, {'c', len(data)}}
		var shown []string
		for _, k := range counts {
			if _, ok := opts[k.flag]; ok || len(opts) == 0 {
				shown = append(shown, strconv.Itoa(k.n))
			}
		}
		c.print("%s\n", strings.Join(shown, " "))
		return err
	})
}

func touch(c *call) int {
	return c.each(c.args, func(p string) error {
		f, err := c.host.Root.OpenFile(p, os.O_CREATE|os.O_WRONLY, 0o644)
		if err != nil {
			return err
		}
		now := c.host.Now()
		return errors.Join(f.Close(), c.host.Root.Chtimes(p, now, now))
	})
}

func uname(c *call) int {
	opts, _ := c.options("")
	if _, ok := opts['n']; ok {
		c.print("%s\n", c.host.Name)
		return 0
	}
	c.print("Linux\n")
	return 0
}

func sleep(c *call) int {
	if len(c.args) != 1 {
		return c.fail("give a number of seconds")
	}
	n, err := strconv.ParseFloat(strings.TrimSuffix(c.args[0], "s"), 64)
	if err != nil {
		return c.fail("give a number of seconds")
	}
	select {
	case <-c.ctx.Done():
		return 130
	case <-time.After(time.Duration(n * float64(time.Second))):
		return 0
	}
}

func env(c *call) int {
	c.print("HOME=%s\nUSER=%s\nLOGNAME=%s\nSHELL=/bin/sh\n", c.host.Home, c.host.User, c.host.User)
	for _, e := range c.host.Env {
		c.print("%s\n", e)
	}
	return 0
}

func tee(c *call) int {
	opts, names := c.options("")
	flag := os.O_CREATE | os.O_WRONLY | os.O_TRUNC
	if _, ok := opts['a']; ok {
		flag = os.O_CREATE | os.O_WRONLY | os.O_APPEND
	}
	writers := []io.Writer{c.out}
	status := c.each(names, func(p string) error {
		f, err := c.host.Root.OpenFile(p, flag, 0o644)
		if err == nil {
			writers = append(writers, f)
		}
		return err
	})
	_, err := io.Copy(io.MultiWriter(writers...), c.in)
	for _, w := range writers[1:] {
		err = errors.Join(err, w.(*os.File).Close())
	}
	if err != nil {
		return c.fail("%s", cause(err))
	}
	return status
}

func readlink(c *call) int {
	_, names := c.options("")
	return c.each(names, func(p string) error {
		to, err := c.host.Root.Readlink(p)
		if err == nil {
			c.print("%s\n", to)
		}
		return err
	})
}

// command answers "command -v NAME" and "type NAME" from our own table.
func command(c *call) int {
	opts, names := c.options("")
	_, look := opts['v']
	if c.name == "command" && !look {
		if len(names) == 0 {
			return 0
		}
		if f, ok := commands[names[0]]; ok {
			sub := *c
			sub.name, sub.args = names[0], names[1:]
			return f(&sub)
		}
		fmt.Fprintf(c.err, "sh: %s: command not found\n", names[0])
		return 127
	}
	status := 0
	for _, n := range names {
		if _, ok := commands[n]; !ok {
			status = 1
			continue
		}
		if c.name == "type" {
			c.print("%s is /usr/bin/%s\n", n, n)
		} else {
			c.print("/usr/bin/%s\n", n)
		}
	}
	return status
}

var (
	substitution = regexp.MustCompile(`^s(.)`)
	addressed    = regexp.MustCompile(`^(?:(\d+|\$)(?:,(\d+|\$))?|/((?:[^/\\]|\\.)*)/)?\s*([pd])$`)
)

type sedRule struct {
	from, to int // line numbers; 0: not by number; -1: the last
	match    *regexp.Regexp
	action   byte // p, d or s
	with     string
	all      bool
}

// sed does s, p and d, by line number, range or pattern, with -n, -i and -E.
func sed(c *call) int {
	opts, rest := c.options("e")
	script, ok := opts['e']
	if !ok {
		if len(rest) == 0 {
			return c.fail("no script")
		}
		script, rest = rest[0], rest[1:]
	}
	_, extended := opts['E']
	_, quiet := opts['n']
	_, inPlace := opts['i']
	rule, err := parseSed(script, extended)
	if err != nil {
		return c.fail("%s", err)
	}
	return c.eachInput(rest, func(name string, r io.Reader) error {
		var lines []string
		if err := eachLine(r, func(l string, _ int) { lines = append(lines, l) }); err != nil {
			return err
		}
		var out strings.Builder
		for i, l := range lines {
			rule.apply(&out, l, i+1, len(lines), quiet)
		}
		if inPlace && name != "-" {
			return c.host.Root.WriteFile(c.path(name), []byte(out.String()), 0o644)
		}
		c.print("%s", out.String())
		return nil
	})
}

func parseSed(script string, extended bool) (sedRule, error) {
	compile := func(p string) (*regexp.Regexp, error) {
		if !extended {
			p = basic(p)
		}
		return regexp.Compile(p)
	}
	if m := substitution.FindStringSubmatch(script); m != nil {
		parts := strings.Split(script[2:], m[1])
		if len(parts) != 3 {
			return sedRule{}, errors.New("unterminated s command")
		}
		re, err := compile(parts[0])
		with := regexp.MustCompile(`\\(\d)`).ReplaceAllString(strings.ReplaceAll(parts[1], "$", "$$"), "$${$1}")
		return sedRule{match: re, action: 's', with: strings.ReplaceAll(with, "&", "${0}"),
			all: strings.Contains(parts[2], "g")}, err
	}
	m := addressed.FindStringSubmatch(script)
	if m == nil {
		return sedRule{}, errors.New("this stand-in's sed knows s/a/b/[g], Np, N,Mp, /re/p and the same with d")
	}
	r := sedRule{action: m[4][0]}
	number := func(s string) int {
		if s == "$" {
			return -1
		}
		n, _ := strconv.Atoi(s)
		return n
	}
	r.from, r.to = number(m[1]), number(m[2])
	if m[2] == "" {
		r.to = r.from
	}
	var err error
	if m[3] != "" {
		r.match, err = compile(m[3])
	}
	return r, err
}

func (r sedRule) apply(out *strings.Builder, line string, n, last int, quiet bool) {
	if r.action == 's' {
		done := false
		line = r.match.ReplaceAllStringFunc(line, func(s string) string {
			if done && !r.all {
				return s
			}
			done = true
			return r.match.ReplaceAllString(s, r.with)
		})
	}
	at := func(k int) int {
		if k == -1 {
			return last
		}
		return k
	}
	hit := r.action != 's' && (r.match != nil && r.match.MatchString(line) ||
		r.match == nil && (r.from == 0 || n >= at(r.from) && n <= at(r.to)))
	if hit && r.action == 'd' {
		return
	}
	if !quiet {
		out.WriteString(line + "\n")
	}
	if hit && r.action == 'p' {
		out.WriteString(line + "\n")
	}
}
