package agent

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"plumlatch/core/agentcalls"
	"plumlatch/core/keypair"
)

// TestOneUpgrade: while one program arrives, and until it was tried, another is refused: it would lie where the first one was found to be the signed
// one, and be run in its place.
func TestOneUpgrade(t *testing.T) {
	pair, err := keypair.Create(keypair.Ed25519, "release")
	if err != nil {
		t.Fatal(err)
	}
	signer, err := pair.Signer()
	if err != nil {
		t.Fatal(err)
	}
	program := "#!/bin/sh\nexit 0\n"
	sum := sha256.Sum256([]byte(program))
	text := agentcalls.Release{Version: 99, Arch: archs[runtime.GOARCH], SHA256: hex.EncodeToString(sum[:]), Size: int64(len(program))}.Text()
	signature, err := keypair.Sign(signer, agentcalls.ReleaseNamespace, []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	args, err := json.Marshal(agentcalls.UpgradeArgs{Release: text, Signature: string(signature)})
	if err != nil {
		t.Fatal(err)
	}
	a := &Agent{Paths: Paths{Root: t.TempDir()}, Log: slog.New(slog.DiscardHandler)}
	at := a.Paths.at(Program)
	if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
		t.Fatal(err)
	}
	owner, r := agentcalls.Owner{Release: pair.Public, Upgrades: true}, agentcalls.Request{Verb: agentcalls.Upgrade, Args: string(args)}
	ask := func(in io.Reader) error {
		_, err := a.upgrade(t.Context(), owner, r, in)
		return err
	}
	refusedAs := func(what, word string, err error) {
		t.Helper()
		if no := (refused{}); !errors.As(err, &no) || !strings.Contains(err.Error(), word) {
			t.Errorf("%s: %v", what, err)
		}
	}
	in, out := io.Pipe()
	first := make(chan error, 1)
	go func() { first <- ask(in) }()
	if _, err := out.Write([]byte(program[:5])); err != nil {
		t.Fatal(err)
	}
	refusedAs("while one arrives", "another upgrade is going on", ask(strings.NewReader("#!/bin/sh\ntouch /lost\n")))
	_ = out.CloseWithError(errors.New("the line is cut"))
	refusedAs("a line that is cut", "did not arrive", <-first)
	refusedAs("another program", "not the program that was signed", ask(strings.NewReader("#!/bin/sh\nexit 1\n")))
	refusedAs("one that goes on", "not the program that was signed", ask(strings.NewReader(program+"more")))
	if _, err := os.Lstat(at + ".new"); err == nil {
		t.Error("something of them is left")
	}
	if err := ask(strings.NewReader(program)); err != nil {
		t.Fatalf("after them: %v", err)
	}
	refusedAs("before it was tried", "another upgrade is going on", ask(strings.NewReader(program)))
	if a.takeNext() == nil {
		t.Error("it is not tried")
	}
	refusedAs("while it is tried", "another upgrade is going on", ask(strings.NewReader(program)))
}
