package e2e

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"reflect"
	"regexp"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/core/wire"
	"plumlatch/service/api"
)

// bodyOf is the type of the body of each call that takes one. A call that is added
// without a line here fails the test; a field that is added is covered by itself.
var bodyOf = map[string]any{
	"POST /session": wire.Credentials{}, "POST /keys": wire.NewKey{}, "PATCH /keys/:name": wire.KeyChange{},
	"POST /session/challenge": wire.SigninRequest{}, "POST /session/key": wire.SigninProof{},
	"POST /session/redeem": wire.ConsoleCode{}, "PUT /session/password": wire.PasswordChange{},
	"PUT /keys/:name/private-print": wire.PrivatePrint{},
	"POST /keys/:name/challenge":    wire.ChallengeRequest{}, "POST /keys/:name/proof": wire.Proof{},
	"POST /keybooks/compare": wire.KeybookText{}, "POST /keybooks": wire.KeybookSettle{}, "POST /keybooks/write": wire.KeybookWrite{},
	"POST /instances/:name/tags": wire.TagChange{}, "POST /instances/:name/streams": wire.NewStream{}, "POST /streams/:id/key": wire.SessionKey{},
	"POST /holders": wire.Holder{}, "POST /instances": wire.Launch{},
	"POST /instances/:name/survey": wire.SurveyRequest{}, "POST /instances/:name/why": wire.WhyRequest{},
	"POST /instances/:name/refresh": wire.Refresh{}, "POST /instances/:name/rules": wire.Admit{},
	"POST /instances/:name/unadmit": wire.Unadmit{}, "POST /instances/:name/host-key": wire.AcceptHostKey{},
	"POST /static-addresses": wire.NewStaticAddress{}, "POST /static-addresses/:name/move": wire.MoveAddress{},
	"POST /work/:id/line": wire.LineReport{}, "POST /work/:id/login": wire.LoginReport{},
	"POST /instances/:name/rotate": wire.Rotate{}, "POST /rotations/plan": wire.Fleet{},
	"POST /rotations": wire.Fleet{}, "POST /access/many/plan": wire.AccessMany{},
	"POST /access/many":   wire.AccessMany{},
	"POST /work/:id/word": wire.GiveWord{}, "POST /instances/:name/access-add": wire.AccessAdd{},
	"POST /instances/:name/access-remove": wire.AccessRemove{},
	"POST /instances/:name/access-extend": wire.AccessExtend{},
	"POST /instances/:name/rotation-plan": wire.Rotate{}, "POST /instances/:name/routes": wire.CompareRoutes{},
	"POST /instances/:name/placed-keys": wire.PlaceKey{}, "POST /instances/:name/rehearsals/plan": wire.Rehearse{}, "POST /instances/:name/rehearsals": wire.Rehearse{},
	"POST /instances/:name/restore": wire.Restore{}, "POST /instances/:name/checks": wire.CheckChange{},
	"POST /restores/plan": wire.RestoreMany{}, "POST /restores": wire.RestoreMany{},
	"POST /work/:id/placed": wire.PlacedReport{}, "POST /work/:id/permit": wire.PermitRequest{},
	"POST /instances/:name/users": wire.SetUser{}, "POST /work/:id/user": wire.UserTold{},
	"PUT /instances/:name/agent":       wire.AgentKey{},
	"POST /instances/:name/agent/call": wire.AgentCall{}, "POST /instances/:name/logins": wire.SetLogins{}, "POST /instances/:name/logins-seen": wire.LoginsSeen{}, "POST /work/:id/logins": wire.LoginsTold{},
	"POST /work/:id/fetched": wire.Fetched{}, "POST /work/:id/enabled": wire.EnabledServices{},
	"POST /adoptions": wire.Adoption{}, "POST /adopt-many": wire.AdoptMany{},
	"POST /surveys": wire.SurveyMany{}, "POST /instances/:name/client-survey": wire.ClientSurvey{},
	"POST /journal/checks": wire.JournalCheck{}, "POST /access/:id/login": wire.LoginReport{},
	"POST /operators": wire.Operator{}, "PATCH /operators/:name": wire.OperatorChange{},
	"POST /tokens":                        wire.NewToken{},
	"POST /instances/:name/record-access": map[string]string{"fingerprint": "", "user": "", "name": ""},
	"PUT /policy":                         wire.Policy{}, "POST /keys/:name/bad-day": wire.KeyBadDay{},
	"PATCH /holders/:name": wire.HolderChange{}, "POST /holders/:name/left": wire.HolderLeft{},
	"POST /today/:id/off":       wire.PutOff{},
	"POST /discovery/adoptions": wire.FoundAdoption{}, "POST /instances/:name/link": wire.CloudLink{},
	"POST /work/:id/lend": wire.LendKey{}, "POST /instances/:name/lend": wire.LendKey{},
	"POST /cloud-keys/look": wire.LookKeyLists{}, "POST /cloud-keys": wire.ListKey{}, "POST /cloud-keys/removals": wire.UnlistKey{},
}

// without are the calls that take no text in a body.
var without = map[string]bool{"POST /instances/:name/password": true, "POST /instances/:name/password/changed": true,
	"POST /session/code": true, "POST /instances/:name/agent/token": true, "POST /instances/:name/agent/look": true,
	"POST /instances/:name/agent/upgrade": true,
	"POST /keys/:name/retire":             true, "POST /keys/:name/use-again": true,
	"POST /instances/:name/stop": true, "POST /instances/:name/start": true, "POST /work/:id/cancel": true,
	"POST /work/:id/retry": true,
	"POST /work/:id/pause": true, "POST /work/:id/go-on": true, "POST /work/:id/close": true,
	"POST /instances/:name/steward-key": true, "POST /instances/:name/rescue": true,
	"POST /instances/:name/probing": true,
	"POST /discovery":               true, "POST /today/seen": true, "POST /journal/verify": true,
	"PUT /operators/:name/keys/:key": true}

// privateForms are private keys in each form in which somebody might send one.
func privateForms(t *testing.T) map[string]string {
	t.Helper()
	_, ed, err := ed25519.GenerateKey(rand.Reader)
	mustDo(t, err)
	r, err := rsa.GenerateKey(rand.Reader, 2048)
	mustDo(t, err)
	ec, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	mustDo(t, err)
	pk8, err := x509.MarshalPKCS8PrivateKey(ed)
	mustDo(t, err)
	sec1, err := x509.MarshalECPrivateKey(ec)
	mustDo(t, err)
	openssh, err := ssh.MarshalPrivateKey(ed, "x")
	mustDo(t, err)
	text := string(pem.EncodeToMemory(openssh))
	b64 := base64.StdEncoding.EncodeToString
	return map[string]string{
		"OpenSSH": text, "PEM": string(pem.EncodeToMemory(&pem.Block{Type: "RSA PRIVATE KEY",
			Bytes: x509.MarshalPKCS1PrivateKey(r)})),
		"bare PKCS#8": b64(pk8), "bare PKCS#1": b64(x509.MarshalPKCS1PrivateKey(r)), "bare SEC 1": b64(sec1),
		"PEM in base64": b64([]byte(text)), "URL-encoded": url.QueryEscape(text),
		"no-break spaces": strings.ReplaceAll(text, " ", "\u00a0"),
		"JWK": `{"kty":"OKP","crv":"Ed25519","d":"` + base64.RawURLEncoding.EncodeToString(ed.Seed()) +
			`","x":"AA"}`,
		"age": "AGE-SECRET-KEY-1QQPQYZQQPQYZQQPQYZQQPQYZQQPQYZQQPQYZQQPQYZQQPQYZ",
		"PPK": mustRead(t, "../core/keypair/testdata/ppk/ed25519.v3.ppk"),
	}
}

// places are bodies with a text in each string of a type in turn, by the way to it.
func places(v reflect.Value, path string, depth int, put func(path string, set func(string))) {
	if depth > 6 {
		return
	}
	switch v.Kind() {
	case reflect.String:
		put(path, v.SetString)
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		places(v.Elem(), path, depth+1, put)
	case reflect.Struct:
		for n := range v.NumField() {
			if f := v.Type().Field(n); f.IsExported() && v.Type().String() != "time.Time" {
				places(v.Field(n), path+"."+f.Name, depth+1, put)
			}
		}
	case reflect.Slice:
		if v.Type().Elem().Kind() == reflect.Uint8 {
			return // base64 of bytes: looked at as a text, and public keys are bytes too
		}
		v.Set(reflect.MakeSlice(v.Type(), 1, 1))
		places(v.Index(0), path+"[]", depth+1, put)
	case reflect.Map:
		if v.Type().Key().Kind() != reflect.String || v.Type().Elem().Kind() != reflect.String {
			return
		}
		m := reflect.MakeMap(v.Type())
		v.Set(m)
		put(path+"{key}", func(s string) {
			m.Clear()
			m.SetMapIndex(reflect.ValueOf(s).Convert(v.Type().Key()), reflect.ValueOf("x").Convert(v.Type().Elem()))
		})
		put(path+"{value}", func(s string) {
			m.Clear()
			m.SetMapIndex(reflect.ValueOf("x").Convert(v.Type().Key()), reflect.ValueOf(s).Convert(v.Type().Elem()))
		})
	}
}

// TestNoFieldTakesAPrivateKey puts each form of a private key into each string of
// each call, and into paths, queries and headers: nothing takes it, and afterwards
// it is nowhere in the database, nor in what the service has logged.
func TestNoFieldTakesAPrivateKey(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 121)
	up, err := s.start("", "")
	mustDo(t, err)
	t.Cleanup(func() { up.end() })
	d := newHome(t, &demo{dir: s.dir, url: up.url, token: s.token})
	forms := privateForms(t)
	calls := 0
	for _, o := range api.Operations() {
		if o.Method == http.MethodGet {
			continue
		}
		m := []string{"", o.Method, o.Path}
		call := m[1] + " " + m[2]
		body, ok := bodyOf[call]
		if !ok {
			if m[1] != "DELETE" && !without[call] {
				t.Errorf("%s: say which type its body has", call)
			}
			continue
		}
		calls++
		path := "/api/v1" + regexp.MustCompile(`:(id)`).ReplaceAllString(regexp.MustCompile(`:(name|key)`).ReplaceAllString(m[2], "x"), "1")
		v := reflect.New(reflect.TypeOf(body)).Elem()
		v.Set(reflect.ValueOf(body))
		var paths []string
		if kind := v.Kind(); kind == reflect.Map {
			for _, k := range v.MapKeys() {
				for what, secret := range forms {
					refusedAsPrivate(t, d, m[1], path, mustJSON(t, map[string]string{k.String(): secret}),
						call+" "+k.String()+" "+what)
				}
			}
			continue
		}
		places(v, "", 0, func(at string, set func(string)) {
			paths = append(paths, at)
			for what, secret := range forms {
				set(secret)
				refusedAsPrivate(t, d, m[1], path, mustJSON(t, v.Interface()), call+" "+at+" "+what)
			}
			set("")
		})
		if len(paths) == 0 && call != "POST /adopt-many" && call != "POST /work/:id/fetched" &&
			call != "POST /instances/:name/routes" && call != "POST /holders/:name/left" {
			t.Errorf("%s: no text was found in %T", call, body)
		}
	}
	if calls != len(bodyOf) {
		t.Errorf("%d calls of %d were looked at", calls, len(bodyOf))
	}
	for what, secret := range forms {
		line := strings.Join(strings.Fields(secret), " ")
		for _, path := range []string{"/api/v1/keys/" + url.PathEscape(secret), "/api/v1/keys/" + url.PathEscape(secret) + "/",
			"/api/v1/keys?q=" +
				url.QueryEscape(secret), "/api/v1/keys?" + url.QueryEscape(secret) + "=1", "/api/v1/access?cursor=" +
				url.QueryEscape(secret)} {
			if len(path) > 7000 {
				continue
			}
			refusedAsPrivate(t, d, "GET", path, "", "path or query: "+what)
		}
		if what != "no-break spaces" {
			a := d.api(t, "POST", "/api/v1/adopt-many", `{"count":1}`, "Authorization", "Bearer "+d.token,
				"Idempotency-Key", line)
			if a.status != 422 {
				t.Errorf("header, %s: %d %s", what, a.status, a.body)
			}
		}
	}
	// Escapes of JSON within a name that is decoded late, and what is no JSON at all.
	for what, secret := range forms {
		escaped := ""
		for _, r := range secret {
			escaped += fmt.Sprintf(`\u%04x`, r)
		}
		refusedAsPrivate(t, d, "POST", "/api/v1/instances/x/client-survey", `{"not_seen":["`+escaped+`"]}`,
			"escaped: "+what)
		refusedAsPrivate(t, d, "POST", "/api/v1/keys", secret, "no JSON: "+what)
	}
	dump := strings.Builder{}
	conn := s.connect(t)
	rows, err := conn.Query(t.Context(),
		"SELECT table_name FROM information_schema.tables WHERE table_schema = 'public'")
	mustDo(t, err)
	var tables []string
	for rows.Next() {
		var name string
		mustDo(t, rows.Scan(&name))
		tables = append(tables, name)
	}
	for _, name := range tables {
		rows, err := conn.Query(t.Context(), "SELECT x::text FROM "+name+" x")
		mustDo(t, err)
		for rows.Next() {
			var line string
			mustDo(t, rows.Scan(&line))
			dump.WriteString(line + "\n")
		}
	}
	logged := up.log.String()
	for what, secret := range forms {
		for _, part := range []string{secret, strings.Join(strings.Fields(secret), "")[10:40]} {
			if strings.Contains(dump.String(), part) || strings.Contains(logged, part) {
				t.Errorf("%s is in the database or the log", what)
			}
		}
	}
	if dump.Len() < 1000 || len(tables) < 20 {
		t.Errorf("%d tables, %d bytes", len(tables), dump.Len())
	}
}

func refusedAsPrivate(t *testing.T, d *demo, method, path, body, what string) {
	t.Helper()
	a := d.api(t, method, path, body)
	for n := 0; a.status == 429 && n < 60; n++ { // what is costly is bounded
		time.Sleep(500 * time.Millisecond)
		a = d.api(t, method, path, body)
	}
	var p wire.Problem
	_ = json.Unmarshal([]byte(a.body), &p)
	if a.status != 422 || p.Type != "/problems/private-key" {
		t.Errorf("%s: %d %.200s", what, a.status, a.body)
	}
	if len(body) > 60 && strings.Contains(a.body, body[len(body)/2:len(body)/2+20]) {
		t.Errorf("%s: it is repeated in the answer", what)
	}
}

// TestWhatInstancesSayIsBlanked: a private key in a comment of a file of keys, in a
// cloud's label or in an error is kept with its place blanked, and everything else
// of it.
func TestWhatInstancesSayIsBlanked(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 122)
	up, err := s.start("", "")
	mustDo(t, err)
	t.Cleanup(func() { up.end() })
	d := newHome(t, &demo{dir: s.dir, url: up.url, token: s.token})
	d.launchBoard(t, "blank-board", s.key)
	i := d.instance(t, "blank-board")
	file := shared.path("standin", "instances", i.CloudID, "home/debian/.ssh/authorized_keys")
	forms := privateForms(t)
	var all []string
	for what, secret := range forms {
		if len(secret) > 3000 || what == "PPK" {
			continue
		}
		line := strings.Join(strings.Fields(secret), " ")
		all = append(all, line)
		mustDo(t, os.WriteFile(file, []byte(mustRead(t, file)+"\n"+
			strings.Join(strings.Fields(newPublic(t))[:2], " ")+" beside "+line+"\n"), 0o600))
	}
	out := d.must(t, "survey", "blank-board", "-json")
	if n := strings.Count(out, "[a private key stood here]"); n < len(all)-2 { // some are cut to their first half
		t.Errorf("blanked %d times, of %d:\n%s", n, len(all), out)
	}
	conn := s.connect(t)
	for _, table := range []string{"surveys", "sightings", "journal", "matters"} {
		rows, err := conn.Query(t.Context(), "SELECT x::text FROM "+table+" x")
		mustDo(t, err)
		for rows.Next() {
			var line string
			mustDo(t, rows.Scan(&line))
			for _, secret := range all {
				if part := secret[len(secret)/3 : len(secret)/3+24]; strings.Contains(line, part) {
					t.Errorf("%s has %s", table, part)
				}
			}
		}
	}
	if strings.Contains(up.log.String(), all[0][20:40]) {
		t.Error("the log has it")
	}
}
