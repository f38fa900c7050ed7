package cloudconfig

import (
	"errors"
	"strings"
	"testing"

	"go.yaml.in/yaml/v3"
)

func TestBuild(t *testing.T) {
	nasty := `restrict,command="a: #{b}" ssh-ed25519 AAAA it's: "me" # - x`
	out, err := Build(Settings{Hostname: "berth-board-9", LoginUser: "debian", Keys: []string{nasty, "ssh-rsa BBBB"}})
	if err != nil {
		t.Fatal(err)
	}
	text := out.Text
	if !strings.HasPrefix(text, "#cloud-config\n") {
		t.Errorf("it begins %q", text[:20])
	}
	var doc struct {
		Users       []any `yaml:"users"`
		SSHPwauth   *bool `yaml:"ssh_pwauth"`
		DisableRoot bool  `yaml:"disable_root"`
	}
	if err := yaml.Unmarshal([]byte(text), &doc); err != nil {
		t.Fatal(err)
	}
	if doc.SSHPwauth == nil || *doc.SSHPwauth || !doc.DisableRoot {
		t.Error("password login is not turned off")
	}
	if len(doc.Users) != 2 || doc.Users[0] != "default" {
		t.Fatalf("users: %v", doc.Users)
	}
	u := doc.Users[1].(map[string]any)
	if keys := u["ssh_authorized_keys"].([]any); u["name"] != "debian" || keys[0] != nasty ||
		keys[1] != "ssh-rsa BBBB" {
		t.Errorf("user: %v", u)
	}
}

func TestBuildRefuses(t *testing.T) {
	for _, k := range []string{"a\nb", "a\rb", "a\x00b", "\xff"} {
		if _, err := Build(Settings{LoginUser: "x", Keys: []string{k}}); !errors.Is(err, ErrBadLine) {
			t.Errorf("%q: %v", k, err)
		}
	}
	if _, err := Build(Settings{LoginUser: "x", Keys: []string{strings.Repeat("a", MaxSize)}}); !errors.Is(err,
		ErrTooLarge) {
		t.Errorf("16 KiB: %v", err)
	}
}
