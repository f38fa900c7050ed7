package e2e

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"plumlatch/core/keypair"
	"plumlatch/core/signin"
	"plumlatch/core/wire"
)

// person is somebody at a machine of their own: a home, and no token.
type person struct {
	d    *demo
	home string
	env  []string
}

func newPerson(t *testing.T, d *demo) *person { return &person{d: d, home: t.TempDir()} }

func (p *person) run(t testing.TB, args ...string) result {
	t.Helper()
	cmd := exec.Command(filepath.Join(bin, "plumlatch"), args...)
	for _, e := range os.Environ() {
		if !strings.HasPrefix(e, "PLUMLATCH_") && !strings.HasPrefix(e, "XDG_") {
			cmd.Env = append(cmd.Env, e)
		}
	}
	cmd.Env = append(append(cmd.Env, "HOME="+p.home), p.env...)
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	if _, ok := errors.AsType[*exec.ExitError](err); err != nil && !ok {
		t.Fatal(err)
	}
	return result{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
}

func (p *person) must(t testing.TB, args ...string) string {
	t.Helper()
	r := p.run(t, args...)
	if r.code != 0 {
		t.Fatalf("plumlatch %s: status %d\n%s%s", strings.Join(args, " "), r.code, r.out, r.err)
	}
	return r.out
}

func (p *person) refused(t *testing.T, want string, args ...string) {
	t.Helper()
	if r := p.run(t, args...); r.code == 0 || !strings.Contains(r.err, want) {
		t.Errorf("plumlatch %s: %d, %s%s", strings.Join(args, " "), r.code, r.out, r.err)
	}
}

func (p *person) file() string { return filepath.Join(p.home, ".config/plumlatch/sign-ins.json") }

// TestSignInByKey: a second operator begins by a key of theirs alone: no token, no password. The token lies in
// a file for nobody else, ends with sign-out, and with whatever takes the key its right.
func TestSignInByKey(t *testing.T) {
	t.Parallel()
	d := shared
	p := newPerson(t, d)
	mate := filepath.Join(p.home, "mate")
	sshKeygen(t, "-q", "-t", "ed25519", "-N", "", "-C", "mate", "-f", mate)
	p.refused(t, "no service is chosen", "today")
	out := d.must(t, "operator", "add", "second-mate", "-role", "operator", "-public", mate+".pub")
	contains(t, "operator add", out, "without a password", "plumlatch sign-in "+d.url+" -operator second-mate -identity FILE")

	out = p.must(t, "sign-in", d.url, "-operator", "second-mate", "-identity", mate)
	contains(t, "sign-in", out, "Signed in at "+d.url+" as second-mate, operator, until ")
	if fi, err := os.Stat(p.file()); err != nil || fi.Mode().Perm() != 0o600 {
		t.Errorf("the file: %v, %v", fi, err)
	}
	contains(t, "whoami", p.must(t, "whoami"), "second-mate, with the role operator")
	// A session's rights: a token that outlives it.
	contains(t, "token create", p.must(t, "token", "create", "mate-report", "-role", "viewer", "-for", "1w"), "Shown this once")

	// The console, by a code that is good once, from this machine.
	page, err := url.Parse(strings.TrimSpace(p.must(t, "console", "-print")))
	mustDo(t, err)
	code := strings.TrimPrefix(page.Fragment, "code=")
	if page.RawQuery != "" || code == page.Fragment || code == "" {
		t.Fatalf("the page is %s", page)
	}
	redeem := func(want int) answer {
		t.Helper()
		a := d.api(t, "POST", "/api/v1/session/redeem", fmt.Sprintf(`{"code":%q}`, code), "Content-Type", "application/json")
		if a.status != want {
			t.Errorf("%d %s, and not %d", a.status, a.body, want)
		}
		return a
	}
	first := redeem(200)
	if !strings.Contains(first.header.Get("Set-Cookie"), "HttpOnly") || first.field(t, "name") != "second-mate" {
		t.Errorf("%v %s", first.header, first.body)
	}
	redeem(401)
	if a := d.api(t, "POST", "/api/v1/session/code", ""); a.status != 409 {
		t.Errorf("an API token made a code for the console: %d %s", a.status, a.body)
	}

	// What others can read is not used; what has ended says so.
	mustDo(t, os.Chmod(p.file(), 0o644))
	p.refused(t, "can be read by others", "whoami")
	mustDo(t, os.Chmod(p.file(), 0o600))

	// By the agent; and by another name, beside the first.
	socket := filepath.Join(t.TempDir(), "agent")
	agent := exec.Command("ssh-agent", "-D", "-a", socket)
	mustDo(t, agent.Start())
	defer func() { _ = agent.Process.Kill(); _ = agent.Wait() }()
	waitFor(t, "the agent", func() bool { _, err := os.Stat(socket); return err == nil })
	p.env = []string{"SSH_AUTH_SOCK=" + socket}
	add := exec.Command("ssh-add", mate)
	add.Env = append(os.Environ(), p.env...)
	mustDo(t, add.Run())
	p.must(t, "sign-in", d.url, "-operator", "second-mate", "-ssh-agent", "-service", "other")
	contains(t, "the other one", p.must(t, "whoami", "-service", "other"), "second-mate")
	p.refused(t, "signed in to no service called nowhere", "whoami", "-service", "nowhere")
	contains(t, "sign-out", p.must(t, "sign-out", "-service", "other"), "Signed out of "+d.url)
	contains(t, "still", p.must(t, "whoami"), "second-mate")

	// The service ends what a key opened when the key has its right no more.
	contains(t, "keys", d.must(t, "operator", "key", "second-mate"), "second-mate-signs-in", "yes", "no")
	d.must(t, "operator", "key", "second-mate", "-remove", "second-mate-signs-in")
	p.refused(t, "the session has ended", "whoami")
	p.refused(t, "does not sign in", "sign-in", d.url, "-operator", "second-mate", "-identity", mate)
	d.must(t, "operator", "key", "second-mate", "-add", "second-mate-signs-in", "-may", "sign-in")
	p.must(t, "sign-in", d.url, "-operator", "second-mate", "-identity", mate)
	d.must(t, "key", "exposed", "second-mate-signs-in", "-yes")
	p.refused(t, "the session has ended", "whoami")
	p.refused(t, "does not sign in", "sign-in", d.url, "-operator", "second-mate", "-identity", mate)

	// A key that opens instances is warned of.
	dir := t.TempDir()
	d.must(t, "key", "create", "sign-both", "-dir", dir)
	d.launchBoard(t, "sign-board", "sign-both")
	if r := d.client(t, "", "operator", "key", "second-mate", "-add", "sign-both"); r.code != 0 ||
		!strings.Contains(r.err, "opens 1 instance") {
		t.Errorf("%+v", r)
	}
	p.must(t, "sign-in", d.url, "-operator", "second-mate", "-identity", filepath.Join(dir, "sign-both"))
	p.must(t, "sign-out")
	p.refused(t, "no service is chosen", "whoami")
}

// TestSignInUnderAttack: failed passwords shut nobody out who signs in by key; a replayed, foreign or
// changed statement opens nothing; nobody learns which operators there are; and a service in between gets
// nothing that is good at another.
func TestSignInUnderAttack(t *testing.T) {
	t.Parallel()
	d := shared
	pair, err := keypair.Create(keypair.Ed25519, "bosun")
	mustDo(t, err)
	signer, err := pair.Signer()
	mustDo(t, err)
	dir := t.TempDir()
	public := filepath.Join(dir, "bosun.pub")
	mustDo(t, os.WriteFile(public, []byte(pair.Public.Line()+"\n"), 0o600))
	d.must(t, "operator", "add", "bosun", "-public", public)
	fingerprint := pair.Public.Fingerprint()
	post := func(path string, body any) answer {
		t.Helper()
		text, err := json.Marshal(body)
		mustDo(t, err)
		return d.api(t, "POST", "/api/v1"+path, string(text), "Content-Type", "application/json")
	}
	challenge := func(operator, key string) string {
		t.Helper()
		return post("/session/challenge", wire.SigninRequest{Operator: operator, Key: key}).field(t, "challenge")
	}
	u, err := url.Parse(d.url)
	mustDo(t, err)
	statement := func(spoil func(*signin.Statement)) signin.Statement {
		t.Helper()
		s := signin.Statement{Service: "http://" + u.Host, Certificate: signin.NoCertificate, Operator: "bosun",
			Key: fingerprint, Challenge: challenge("bosun", fingerprint), At: time.Now().UTC().Truncate(time.Second)}
		if spoil != nil {
			spoil(&s)
		}
		return s
	}
	proof := func(s signin.Statement, namespace string) wire.SigninProof {
		t.Helper()
		text, err := s.Text()
		mustDo(t, err)
		signature, err := keypair.Sign(signer, namespace, text)
		mustDo(t, err)
		return wire.SigninProof{Service: s.Service, Certificate: s.Certificate, Operator: s.Operator, Key: s.Key,
			Challenge: s.Challenge, At: s.At, Signature: string(signature)}
	}

	// Sixty wrong passwords from anywhere shut the name out for passwords; not for keys.
	for range 6 {
		post("/session", wire.Credentials{Operator: "bosun", Password: "guess"})
	}
	if a := post("/session", wire.Credentials{Operator: "bosun", Password: "guess"}); a.status != 429 {
		t.Errorf("%d %s", a.status, a.body)
	}
	good := proof(statement(nil), signin.Namespace)
	if a := post("/session/key", good); a.status != 200 || !strings.HasPrefix(a.field(t, "token"), "pls_") {
		t.Fatalf("%d %s", a.status, a.body)
	}

	other, err := keypair.Create(keypair.Ed25519, "other")
	mustDo(t, err)
	elsewhere := challenge("bosun", other.Public.Fingerprint())
	for name, c := range map[string]struct {
		proof  wire.SigninProof
		status int
	}{
		"the same once more":         {good, 422},
		"a proof":                    {proof(statement(nil), keypair.ProofNamespace), 401},
		"a word":                     {proof(statement(nil), keypair.WordNamespace), 401},
		"for another service":        {proof(statement(func(s *signin.Statement) { s.Service = "http://elsewhere.example" }), signin.Namespace), 422},
		"over a connection with TLS": {proof(statement(func(s *signin.Statement) { s.Certificate = "SHA256:00" }), signin.Namespace), 422},
		"an old time":                {proof(statement(func(s *signin.Statement) { s.At = s.At.Add(-time.Hour) }), signin.Namespace), 422},
		"a challenge of another key": {proof(statement(func(s *signin.Statement) { s.Challenge = elsewhere }), signin.Namespace), 422},
		"a challenge of one's own":   {proof(statement(func(s *signin.Statement) { s.Challenge = strings.Repeat("A", 80) }), signin.Namespace), 422},
		"an operator that there is not": {proof(statement(func(s *signin.Statement) {
			s.Operator, s.Challenge = "nobody", challenge("nobody", fingerprint)
		}), signin.Namespace), 401},
		"another operator": {proof(statement(func(s *signin.Statement) {
			s.Operator, s.Challenge = "harbour-lead", challenge("harbour-lead", fingerprint)
		}), signin.Namespace), 401},
	} {
		if a := post("/session/key", c.proof); a.status != c.status || strings.Contains(a.body, "pls_") {
			t.Errorf("%s: %d %s, and not %d", name, a.status, a.body, c.status)
		}
	}
	changed := proof(statement(nil), signin.Namespace)
	changed.At = changed.At.Add(time.Second)
	if a := post("/session/key", changed); a.status != 401 {
		t.Errorf("with another time than was signed: %d %s", a.status, a.body)
	}
	signature := proof(statement(nil), signin.Namespace).Signature
	if a := d.api(t, "POST", "/api/v1/keys/bosun-signs-in/challenge", ""); a.status == 201 {
		b, err := json.Marshal(wire.Proof{Nonce: a.field(t, "nonce"), Signature: signature})
		mustDo(t, err)
		if a := d.api(t, "POST", "/api/v1/keys/bosun-signs-in/proof", string(b), "Authorization", "Bearer "+d.token,
			"Content-Type", "application/json"); a.status != 422 {
			t.Errorf("a sign-in was taken for a proof: %d %s", a.status, a.body)
		}
	}

	// A service in between, which passes all on: what is signed names its address, and is refused.
	between := httptest.NewServer(&httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(u)
		r.Out.Host = u.Host
	}})
	defer between.Close()
	p := newPerson(t, d)
	private, err := pair.Write(keypair.FormatOpenSSH, nil)
	mustDo(t, err)
	mustDo(t, os.WriteFile(filepath.Join(p.home, "bosun"), private, 0o600))
	p.refused(t, "signed for another address", "sign-in", between.URL, "-operator", "bosun", "-identity", filepath.Join(p.home, "bosun"))

	// A service whose challenge has lines of its own gets no signature.
	var got []byte
	lying := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "/challenge") {
			w.WriteHeader(http.StatusCreated)
			fmt.Fprintf(w, `{"challenge":"x\ntime 2030-01-01T00:00:00Z"}`)
			return
		}
		got, _ = io.ReadAll(r.Body)
		w.WriteHeader(http.StatusInternalServerError)
	}))
	defer lying.Close()
	p.refused(t, "nothing was signed", "sign-in", lying.URL, "-operator", "bosun", "-identity", filepath.Join(p.home, "bosun"))
	if len(got) > 0 {
		t.Errorf("something was sent: %s", got)
	}
}

// TestPrints: a key is found by each form of its fingerprint, and changed by SHA256 alone.
func TestPrints(t *testing.T) {
	t.Parallel()
	d, dir := shared, t.TempDir()
	d.must(t, "key", "create", "form-key", "-dir", dir, "-kind", "rsa-2048", "-record-private-form")
	file := filepath.Join(dir, "form-key")
	plain := filepath.Join(dir, "plain.pem")
	d.must(t, "key", "convert", file, "-format", "pkcs8", "-out", plain, "-new-passphrase", emptyFile(t))
	openssl := func(args ...string) []byte {
		t.Helper()
		out, err := exec.Command("openssl", args...).Output()
		mustDo(t, err)
		return out
	}
	sum := func(hash string, data []byte) string {
		t.Helper()
		cmd := exec.Command("openssl", hash, "-c")
		cmd.Stdin = bytes.NewReader(data)
		out, err := cmd.Output()
		mustDo(t, err)
		f := strings.Fields(string(out))
		return f[len(f)-1]
	}
	der := sum("md5", openssl("pkey", "-in", plain, "-pubout", "-outform", "DER"))
	private := sum("sha1", openssl("pkcs8", "-topk8", "-nocrypt", "-in", plain, "-outform", "DER"))
	line, err := os.ReadFile(file + ".pub")
	mustDo(t, err)
	sha256 := strings.Fields(sshKeygenLine(t, string(line)))[1]
	md5 := strings.Fields(string(mustOut(t, "ssh-keygen", "-l", "-E", "md5", "-f", file+".pub")))[1]

	shown := d.must(t, "key", "show", "form-key")
	contains(t, "key show", shown, sha256, md5, "MD5:"+der+", of its DER", "SHA1:"+private+", of the private half's DER")
	for _, word := range []string{sha256, sha256 + "=", md5, strings.TrimPrefix(md5, "MD5:"), der, "MD5:" + der,
		strings.ReplaceAll(der, ":", ""), private, "SHA1:" + private, strings.ReplaceAll(private, ":", "")} {
		contains(t, "opens "+word, d.must(t, "opens", word), "form-key")
		if word != sha256+"=" {
			contains(t, "search "+word, d.must(t, "key", "list", "-match", word), "form-key")
		}
	}
	contains(t, "key check", d.client(t, "", "key", "check", plain).out, sha256, "MD5:"+der, "SHA1:"+private)
	for _, word := range []string{md5, der, "SHA1:" + private} {
		if r := d.client(t, "", "key", "retire", word); r.code == 0 || !strings.Contains(r.err, "give "+sha256) {
			t.Errorf("retire by %s: %+v", word, r)
		}
	}
	contains(t, "by SHA256", d.must(t, "key", "note", sha256, "by its fingerprint"), "Noted for form-key")
	contains(t, "by file", d.must(t, "key", "note", file+".pub", "by its file"), "Noted for form-key")
	for _, c := range [][2]string{{"SHA256:short", "no fingerprint of a known form"}, {"SHA1:" + strings.Repeat("A", 27), "ssh-keygen -l -f FILE"}} {
		if r := d.client(t, "", "opens", c[0]); r.code == 0 || !strings.Contains(r.err, c[1]) {
			t.Errorf("opens %s: %+v", c[0], r)
		}
	}

	// Two keys under one form are refused with both names; two meanings of one word too.
	d.must(t, "key", "create", "form-two", "-dir", dir)
	a := d.api(t, "PUT", "/api/v1/keys/form-two/private-print", `{"fingerprint":"SHA1:`+private+`"}`, "Authorization",
		"Bearer "+d.token, "Content-Type", "application/json")
	if a.status != 200 {
		t.Fatalf("%d %s", a.status, a.body)
	}
	if r := d.client(t, "", "opens", "SHA1:"+private); r.code == 0 || !strings.Contains(r.err, "form-key") ||
		!strings.Contains(r.err, "form-two") {
		t.Errorf("of two keys: %+v", r)
	}
	d.must(t, "key", "create", strings.ReplaceAll(der, ":", ""), "-dir", dir)
	if r := d.client(t, "", "opens", strings.ReplaceAll(der, ":", "")); r.code == 0 || !strings.Contains(r.err, "two meanings") {
		t.Errorf("a name that is a fingerprint: %+v", r)
	}
}

func emptyFile(t *testing.T) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "none")
	mustDo(t, os.WriteFile(file, nil, 0o600))
	return file
}

func mustOut(t *testing.T, name string, args ...string) []byte {
	t.Helper()
	out, err := exec.Command(name, args...).Output()
	mustDo(t, err)
	return out
}
