package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"
)

// BenchmarkCreate makes a pair of each kind by whole processes: ours, which
// also records the public half, beside ssh-keygen. The ratio of the two, taken
// in turns in one run, is what counts; a lower one is better.
func BenchmarkCreate(b *testing.B) {
	for _, c := range []struct{ kind, typ, bits string }{
		{"ed25519", "ed25519", ""}, {"rsa-2048", "rsa", "2048"}, {"rsa-3072", "rsa", "3072"},
		{"rsa-4096", "rsa", "4096"},
		{"ecdsa-256", "ecdsa", "256"}, {"ecdsa-384", "ecdsa", "384"}, {"ecdsa-521", "ecdsa", "521"},
	} {
		b.Run(c.kind, func(b *testing.B) {
			dir := b.TempDir()
			var ours, theirs time.Duration
			for i := 0; b.Loop(); i++ {
				name := fmt.Sprintf("bench-%s-%d-%d", c.kind, time.Now().UnixNano(), i)
				cmd := exec.Command(filepath.Join(bin, "plumlatch"), "key", "create", name, "-kind", c.kind, "-dir",
					dir, "-new-passphrase", "/dev/null")
				cmd.Env = append(os.Environ(), "PLUMLATCH_URL="+shared.url, "PLUMLATCH_TOKEN="+shared.token)
				begin := time.Now()
				if out, err := cmd.CombinedOutput(); err != nil {
					b.Fatalf("%v %s", err, out)
				}
				ours += time.Since(begin)
				args := []string{"-q", "-t", c.typ, "-N", "", "-f", filepath.Join(dir, "theirs-"+name)}
				if c.bits != "" {
					args = append(args, "-b", c.bits)
				}
				begin = time.Now()
				if out, err := exec.Command("ssh-keygen", args...).CombinedOutput(); err != nil {
					b.Fatalf("%v %s", err, out)
				}
				theirs += time.Since(begin)
			}
			b.ReportMetric(float64(ours)/float64(theirs), "times-ssh-keygen")
			b.ReportMetric(0, "ns/op")
		})
	}
}
