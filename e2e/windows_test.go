package e2e

import (
	"bytes"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// Wine of Debian 12 lacks one library that Go's runtime asks for its first random numbers. This is it.
const bcryptPrimitives = `#include <windows.h>
BOOLEAN NTAPI SystemFunction036(PVOID, ULONG);
__declspec(dllexport) BOOL WINAPI ProcessPrng(PBYTE p, SIZE_T n) { return SystemFunction036(p, (ULONG)n); }
`

// TestWindowsClient runs the client that is built for Windows under Wine, where a private file is
// protected by its access list: it is set and read through Windows' own calls, and Wine keeps it as a mode,
// which the test looks at from outside. Not shown by it: that the list inherits nothing, as Wine lets each
// file inherit from its folder whatever is asked, and Windows itself. "make windows" runs it.
func TestWindowsClient(t *testing.T) {
	t.Parallel()
	if os.Getenv("PLUMLATCH_WINE") == "" { // it takes minutes beside the others
		t.Skip("the client for Windows is run by make windows")
	}
	const wine, cc = "/usr/lib/wine/wine64", "/usr/bin/x86_64-w64-mingw32-gcc"
	for _, need := range []string{wine, cc} {
		if _, err := os.Stat(need); err != nil {
			t.Skip("the client for Windows is not run: there is no ", need, " here (make windows)")
		}
	}
	s := newSlot(t, 138)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	dir := t.TempDir()
	prefix, exe, alone, shared := filepath.Join(dir, "prefix"), filepath.Join(dir, "plumlatch.exe"),
		filepath.Join(dir, "alone"), filepath.Join(dir, "shared")
	mustDo(t, os.Chmod(dir, 0o755))
	mustDo(t, os.Mkdir(alone, 0o700))
	mustDo(t, os.Mkdir(shared, 0o755))
	run := func(env []string, name string, args ...string) result {
		t.Helper()
		cmd := exec.Command(name, args...)
		cmd.Env = append(append(os.Environ(), "WINEPREFIX="+prefix, "WINEDEBUG=-all"), env...)
		var out, errOut bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &errOut
		_ = cmd.Run()
		return result{strings.ReplaceAll(out.String(), "\r\n", "\n"), errOut.String(), cmd.ProcessState.ExitCode()}
	}
	good := func(r result) string {
		t.Helper()
		if r.code != 0 {
			t.Fatalf("status %d\n%s%s", r.code, r.out, r.err)
		}
		return r.out
	}
	build := exec.Command("go", "build", "-o", exe, "./cmd/plumlatch")
	build.Dir, build.Env = "..", append(os.Environ(), "GOOS=windows", "GOARCH=amd64", "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	good(run(nil, wine, "wineboot", "-i"))
	// As Windows has it: a person's own folders are that person's.
	mustDo(t, filepath.WalkDir(filepath.Join(prefix, "drive_c/users"), func(path string, e fs.DirEntry, err error) error {
		if err == nil && e.IsDir() {
			err = os.Chmod(path, 0o700)
		}
		return err
	}))
	t.Cleanup(func() { run(nil, "/usr/lib/wine/wineserver64", "-k") })
	source := writeFile(t, bcryptPrimitives)
	mustDo(t, os.Rename(source, source+".c"))
	good(run(nil, cc, "-shared", "-o", filepath.Join(prefix, "drive_c/windows/system32/bcryptprimitives.dll"),
		source+".c", "-ladvapi32"))
	client := func(args ...string) result {
		t.Helper()
		return run([]string{"PLUMLATCH_URL=" + d.url, "PLUMLATCH_TOKEN=" + d.token}, wine, append([]string{exe}, args...)...)
	}
	there := func(unix string) string { return `Z:` + strings.ReplaceAll(unix, "/", `\`) }
	mode := func(file string) os.FileMode {
		t.Helper()
		fi, err := os.Stat(file)
		mustDo(t, err)
		return fi.Mode().Perm()
	}
	none := there(writeFile(t, ""))

	// Made for its owner alone, and found so.
	contains(t, "key create", good(client("key", "create", "win-crew", "-dir", there(alone), "-new-passphrase", none)),
		"for you alone, stays here")
	key := filepath.Join(alone, "win-crew")
	if m := mode(key); m&0o007 != 0 {
		t.Errorf("others may do %o with the key", m)
	}
	good(client("key", "check", there(key)))

	// Opened to everybody: said, and mended.
	mustDo(t, os.Chmod(key, 0o644))
	r := client("key", "check", there(key))
	contains(t, "key check", r.out, "its access list lets in Everyone")
	if r.code != 3 {
		t.Errorf("a file that everybody can read: status %d", r.code)
	}
	contains(t, "key check -fix", client("key", "check", "-fix", there(key)).out, "mended: You alone may read it now")
	if m := mode(key); m&0o007 != 0 {
		t.Errorf("mended, others may do %o with the key", m)
	}
	good(client("key", "check", there(key)))

	// A folder that does not keep it so: said, nothing is left and nothing recorded.
	r = client("key", "create", "win-shared", "-dir", there(shared), "-new-passphrase", none)
	contains(t, "a folder of others", r.err, "others can read it in this folder whatever is set")
	if left, err := os.ReadDir(shared); r.code == 0 || err != nil || len(left) > 0 {
		t.Errorf("status %d, %v is left %v", r.code, left, err)
	}
	if list := d.must(t, "key", "list"); strings.Contains(list, "win-shared") {
		t.Errorf("it is recorded:\n%s", list)
	}
	mustDo(t, os.WriteFile(filepath.Join(shared, "old"), []byte(mustRead(t, key)), 0o644))
	r = client("key", "check", "-fix", there(filepath.Join(shared, "old")))
	contains(t, "key check -fix there", r.out, "It could not be mended", "whatever is set")
	if strings.Contains(r.out, "mended: You alone") || r.code != 3 {
		t.Errorf("status %d\n%s", r.code, r.out)
	}

	// The tokens of a sign-in are for its owner alone, too, and are used.
	d.must(t, "operator", "add", "win-mate", "-public", key+".pub")
	url := []string{"PLUMLATCH_URL=", "PLUMLATCH_TOKEN="}
	good(run(url, wine, exe, "sign-in", d.url, "-operator", "win-mate", "-identity", there(key)))
	contains(t, "instance list", good(run(url, wine, exe, "key", "list")), "win-crew")
	files, err := filepath.Glob(filepath.Join(prefix, "drive_c/users/*/AppData/Roaming/plumlatch/sign-ins.json"))
	if err != nil || len(files) != 1 {
		t.Fatalf("where are the tokens? %q %v", files, err)
	}
	if m := mode(files[0]); m&0o007 != 0 {
		t.Errorf("others may do %o with the tokens", m)
	}
}
