package agentcalls

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"plumlatch/core/keypair"
)

var (
	now = time.Date(2026, 11, 30, 20, 0, 0, 0, time.UTC)
	own = Own{Instance: 7, Agent: "SHA256:" + strings.Repeat("a", 43)}
)

func request() Request {
	return Request{Verb: Edit, Instance: own.Instance, Agent: own.Agent, Args: `{"user":"debian"}`, Judged: strings.Repeat("0", 64), Nonce: strings.Repeat("N", 26),
		Until: now.Add(10 * time.Minute)}
}

func pair(t *testing.T) *keypair.Pair {
	t.Helper()
	p, err := keypair.Create(keypair.Ed25519, "operator")
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func signed(t *testing.T, p *keypair.Pair, namespace string, text []byte) string {
	t.Helper()
	s, err := p.Signer()
	if err != nil {
		t.Fatal(err)
	}
	armored, err := keypair.Sign(s, namespace, text)
	if err != nil {
		t.Fatal(err)
	}
	return string(armored)
}

// TestJudge: a service that lies gets nothing done that changes anything.
func TestJudge(t *testing.T) {
	lead, other := pair(t), pair(t)
	owner := Owner{Verbs: Verbs, Trust: ByOperators, Operators: []keypair.Public{other.Public, lead.Public}}
	text := func(r Request) []byte {
		out, err := r.Text()
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	good := signed(t, lead, Namespace, text(request()))
	with := func(change func(*Request)) Request {
		r := request()
		change(&r)
		return r
	}
	look := with(func(r *Request) { r.Verb = Look })
	trusting := owner
	trusting.Trust = ByService
	few := owner
	few.Verbs = []Verb{Look}
	nobody := owner
	nobody.Operators = nil
	for what, c := range map[string]struct {
		owner     Owner
		request   Request
		signature string
		now       time.Time
		want      error
	}{
		"signed":                        {owner, request(), good, now, nil},
		"looking needs none":            {owner, look, "", now, nil},
		"looking that is not open":      {Owner{Verbs: []Verb{Edit}, Trust: ByService}, look, "", now, ErrNotOpen},
		"the service is trusted":        {trusting, request(), "", now, nil},
		"the service's word":            {owner, request(), "", now, ErrUnsigned},
		"a verb that is not open":       {few, request(), good, now, ErrNotOpen},
		"nobody is named":               {nobody, request(), good, now, ErrUnsigned},
		"a key of the service's own":    {owner, request(), signed(t, pair(t), Namespace, text(request())), now, ErrUnsigned},
		"for something else":            {owner, request(), signed(t, lead, keypair.ProofNamespace, text(request())), now, ErrUnsigned},
		"other arguments":               {owner, with(func(r *Request) { r.Args = `{"user":"root"}` }), good, now, ErrUnsigned},
		"another verb":                  {owner, with(func(r *Request) { r.Verb = Users }), good, now, ErrUnsigned},
		"another file":                  {owner, with(func(r *Request) { r.Judged = strings.Repeat("1", 64) }), good, now, ErrUnsigned},
		"once more":                     {owner, with(func(r *Request) { r.Nonce = strings.Repeat("M", 26) }), good, now, ErrUnsigned},
		"a later end":                   {owner, with(func(r *Request) { r.Until = r.Until.Add(time.Minute) }), good, now, ErrUnsigned},
		"another instance":              {owner, with(func(r *Request) { r.Instance = 8 }), good, now, ErrElsewhere},
		"a former agent":                {owner, with(func(r *Request) { r.Agent = "SHA256:" + strings.Repeat("b", 43) }), good, now, ErrElsewhere},
		"for a trusting one, elsewhere": {trusting, with(func(r *Request) { r.Instance = 8 }), "", now, ErrElsewhere},
		"old":                           {owner, request(), good, now.Add(11 * time.Minute), ErrOver},
		"a clock an hour off":           {owner, request(), good, now.Add(-time.Hour), ErrOver},
		"no verb":                       {owner, with(func(r *Request) { r.Verb = "shell" }), good, now, ErrRequest},
		"a nonce with lines":            {owner, with(func(r *Request) { r.Nonce = "N\nverb look" }), good, now, ErrRequest},
		"a hash that is none":           {owner, with(func(r *Request) { r.Judged = "x" }), good, now, ErrRequest},
		"half a second":                 {owner, with(func(r *Request) { r.Until = r.Until.Add(time.Millisecond) }), good, now, ErrRequest},
	} {
		err := c.owner.Judge(c.request, c.signature, own, c.now)
		if c.want == nil && err != nil || c.want != nil && !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", what, err, c.want)
		}
		if err != nil && CodeOf(err) == Failed {
			t.Errorf("%s: no code", what)
		}
	}
	if CodeOf(errors.New("x")) != Failed {
		t.Error("another error has a code of ours")
	}
}

// TestSSHKeygen: what is signed is what OpenSSH's own tool verifies, and the other way round.
func TestSSHKeygen(t *testing.T) {
	if _, err := exec.LookPath("ssh-keygen"); err != nil {
		t.Fatal("ssh-keygen is missing: apt-get install openssh-client")
	}
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	if out, err := exec.Command("ssh-keygen", "-q", "-t", "ecdsa", "-N", "", "-f", at("key")).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	text, err := request().Text()
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(at("text"), text, 0o600); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("ssh-keygen", "-Y", "sign", "-f", at("key"), "-n", Namespace, at("text")).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	line, _ := os.ReadFile(at("key.pub"))
	signature, _ := os.ReadFile(at("text.sig"))
	owner, err := OwnerFile{Verbs: []string{"edit"}, Operators: []string{string(line)}}.Read()
	if err != nil {
		t.Fatal(err)
	}
	if err := owner.Judge(request(), string(signature), own, now); err != nil {
		t.Error(err)
	}
}

func TestReadOwner(t *testing.T) {
	line := pair(t).Public.Line()
	o, err := OwnerFile{Verbs: []string{"look"}, Never: []string{"root"}, Operators: []string{line}, Release: line}.Read()
	if err != nil || o.Trust != ByOperators || len(o.Operators) != 1 || o.Frozen() {
		t.Errorf("%+v, %v", o, err)
	}
	if errors.Is(o.Untouched("debian"), ErrNotOpen) || !errors.Is(o.Untouched("root"), ErrNotOpen) || !errors.Is(o.Untouched("a;b"), ErrRequest) {
		t.Error("whom it touches")
	}
	if o, err := (OwnerFile{Verbs: []string{"look", "edit"}, Trust: "operators"}).Read(); err != nil || !o.Frozen() {
		t.Errorf("nobody could sign: %+v, %v", o, err)
	}
	if o, err := (OwnerFile{Verbs: []string{"edit"}, Trust: "service"}).Read(); err != nil || o.Frozen() {
		t.Errorf("the service is trusted: %+v, %v", o, err)
	}
	for what, c := range map[string]struct {
		verbs, never []string
		trust        string
		operators    []string
	}{
		"no such verb":  {verbs: []string{"look", "shell"}},
		"no login user": {never: []string{"a b"}},
		"no such trust": {trust: "everybody"},
		"no key":        {operators: []string{line, "nonsense"}},
	} {
		if _, err := (OwnerFile{Verbs: c.verbs, Never: c.never, Trust: c.trust, Operators: c.operators}).Read(); err == nil {
			t.Errorf("%s was taken", what)
		}
	}
}

func FuzzText(f *testing.F) {
	f.Add("edit", int64(7), own.Agent, "{}", "", strings.Repeat("N", 26), int64(1))
	f.Fuzz(func(t *testing.T, verb string, instance int64, agent, args, judged, nonce string, until int64) {
		r := Request{Verb: Verb(verb), Instance: instance, Agent: agent, Args: args, Judged: judged, Nonce: nonce, Until: time.Unix(until, 0)}
		text, err := r.Text()
		if err != nil {
			return
		}
		// Each field stands on its own line: no value can say what another field is.
		if lines := strings.Split(string(text), "\n"); len(lines) != 9 || lines[2] != fmt.Sprintf("instance %d", instance) || lines[6] != "nonce "+nonce {
			t.Fatalf("%q", text)
		}
	})
}
