package cloudconfig

import (
	"errors"
	"mime"
	"mime/multipart"
	"net/mail"
	"strings"
	"testing"

	"go.yaml.in/yaml/v3"
)

// partsOf reads a multi-part message as first boot does.
func partsOf(t *testing.T, text string) (types, bodies []string) {
	t.Helper()
	m, err := mail.ReadMessage(strings.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	_, params, err := mime.ParseMediaType(m.Header.Get("Content-Type"))
	if err != nil {
		t.Fatal(err)
	}
	r := multipart.NewReader(m.Body, params["boundary"])
	for {
		p, err := r.NextPart()
		if err != nil {
			return types, bodies
		}
		kind, _, err := mime.ParseMediaType(p.Header.Get("Content-Type"))
		if err != nil {
			t.Fatal(err)
		}
		var b strings.Builder
		buf := make([]byte, 512)
		for {
			n, err := p.Read(buf)
			b.Write(buf[:n])
			if err != nil {
				break
			}
		}
		types, bodies = append(types, kind), append(bodies, b.String())
	}
}

func TestBesideOwn(t *testing.T) {
	const multi = "Content-Type: multipart/mixed; boundary=\"b\"\nMIME-Version: 1.0\n\n--b\nContent-Type: " +
		"text/x-shellscript\n\n#!/bin/sh\n--b\nContent-Type: text/cloud-config\n\n#cloud-config\na: 1\n--b--\n"
	for _, c := range []struct {
		own      string
		types    string
		warnings string // in the warnings; "" for none
	}{
		{"#cloud-config\npackages: [rsync]\n", "text/cloud-config", ""},
		{"#cloud-config\r\npackages: [rsync]", "text/cloud-config", ""},
		{"#cloud-config\n", "text/cloud-config", ""},
		{"#!/bin/sh\necho hi\n", "text/x-shellscript", ""},
		{"#cloud-boothook\n#!/bin/sh\n", "text/cloud-boothook", ""},
		{"#include\nhttps://example.invalid/x\n", "text/x-include-url", ""},
		{"## template: jinja\n#cloud-config\n", "text/jinja2", ""},
		{multi, "text/x-shellscript text/cloud-config", ""},
		{"#cloud-config\nssh_pwauth: yes\n", "text/cloud-config",
			"password login is not turned off: ssh_pwauth on line 2"},
		{"#cloud-config\nssh_pwauth: false\n", "text/cloud-config", ""},
		{"#cloud-config\n\ndisable_root: no\n", "text/cloud-config", "disable_root on line 3"},
		{"#cloud-config\nssh_authorized_keys: [a]\n", "text/cloud-config", "keys of its own (line 2)"},
		{"#cloud-config\nssh_deletekeys: true\n", "text/cloud-config", "changes the host keys"},
	} {
		out, err := Build(Settings{Hostname: "x", LoginUser: "debian", Keys: []string{"ssh-ed25519 AAAA a"},
			Own: c.own})
		if err != nil {
			t.Errorf("%q: %v", c.own, err)
			continue
		}
		types, bodies := partsOf(t, out.Text)
		if got := strings.Join(types, " "); got != c.types+" text/cloud-config" {
			t.Errorf("%q: parts %s", c.own, got)
		}
		if c.own != multi && strings.TrimSpace(bodies[0]) != strings.TrimSpace(strings.ReplaceAll(c.own, "\r", "")) {
			t.Errorf("%q came out as %q", c.own, bodies[0])
		}
		if got := strings.Join(out.Warnings, "; "); (c.warnings == "") != (got == "") ||
			!strings.Contains(got, c.warnings) {
			t.Errorf("%q: warnings %q", c.own, got)
		}
		var ours struct {
			Users    []string `yaml:"users"`
			Keys     []string `yaml:"ssh_authorized_keys"`
			MergeHow []merger `yaml:"merge_how"`
		}
		if err := yaml.Unmarshal([]byte(bodies[len(bodies)-1]), &ours); err != nil || len(ours.Keys) != 1 ||
			len(ours.MergeHow) != 2 || ours.Users[0] != "default" {
			t.Errorf("ours: %+v %v", ours, err)
		}
	}
}

func TestOwnRefused(t *testing.T) {
	for own, want := range map[string]OwnError{
		"#cloud-config\na: [\n":                   {2, "no YAML"},
		"#cloud-config\na: 1\n\tb: 2\n":           {3, "no YAML"},
		"#cloud-config\na: 1\na: 2\n":             {3, "twice"},
		"#cloud-config\n- a\n":                    {2, "a mapping"},
		"#cloud-config\nusers: default\n":         {2, "users must be a list"},
		"#cloud-config\nssh_authorized_keys: x\n": {2, "must be a list"},
		"#cloud-config\nx: \xff\n":                {2, "not UTF-8"},
		"#cloud-config\nx: y\n\x00":               {3, "NUL"},
		"\x1f\x8b\x08 packed":                     {0, "compressed"},
		"packages: [rsync]\n":                     {1, "does not say what it is"},
		"Content-Type: text/plain\n\nx":           {0, "not multipart"},
		"Content-Type: multipart/mixed\n\nx":      {0, "boundary"},
		"Content-Type: multipart/mixed; boundary=b\n\n--b\nContent-Type: text/x-shellscript\n\nx": {0, "does not end"},
		"Content-Type: multipart/mixed; boundary=b\n\n--b\nContent-Type: " +
			"text/cloud-config\nContent-Transfer-Encoding: base64\n\neA==\n--b--\n": {0, "plain text"},
	} {
		_, err := Build(Settings{LoginUser: "x", Own: own})
		var got OwnError
		if !errors.As(err, &got) || got.Line != want.Line || !strings.Contains(got.Reason, want.Reason) {
			t.Errorf("%q: %v, want line %d, %s", own, err, want.Line, want.Reason)
		}
		if err := Check(own); !errors.As(err, &got) {
			t.Errorf("Check %q: %v", own, err)
		}
	}
	if _, err := Build(Settings{LoginUser: "x", Own: "#!/bin/sh\n" + strings.Repeat("# x\n", 5000)}); !errors.Is(err,
		ErrTooLarge) {
		t.Errorf("over 16 KiB: %v", err)
	}
}

func FuzzOwn(f *testing.F) {
	for _, s := range []string{"#cloud-config\na: 1\n", "#!/bin/sh\n",
		"Content-Type: multipart/mixed; boundary=b\n\n--b\nContent-Type: text/cloud-config\n\n#cloud-config\n--b--\n"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, own string) {
		out, err := Build(Settings{LoginUser: "debian", Keys: []string{"ssh-ed25519 AAAA a"}, Own: own})
		if err != nil || own == "" {
			return
		}
		types, bodies := partsOf(t, out.Text)
		if len(types) < 2 || !strings.Contains(bodies[len(bodies)-1], "ssh-ed25519 AAAA a") {
			t.Errorf("our part is lost: %q", out.Text)
		}
	})
}
