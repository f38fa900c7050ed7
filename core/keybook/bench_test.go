package keybook

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"go.yaml.in/yaml/v3"

	"plumlatch/core/keypair"
)

// large is a book of 10,000 keys and 100,000 accesses.
func large(b *testing.B) string {
	b.Helper()
	p, err := keypair.Create(keypair.Ed25519, "x")
	if err != nil {
		b.Fatal(err)
	}
	var s strings.Builder
	s.WriteString("keybook: large\nkeys:\n")
	for n := range 10_000 {
		blob := slices.Clone(p.Public.Blob)
		blob[len(blob)-1], blob[len(blob)-2] = byte(n), byte(n>>8)
		q, err := keypair.FromBlob(blob, "k")
		if err != nil {
			b.Fatal(err)
		}
		fmt.Fprintf(&s, "  k%d: {line: %s, holder: h%d}\n", n, q.Line(), n%100)
	}
	s.WriteString("holders:\n")
	for n := range 100 {
		fmt.Fprintf(&s, "  h%d: person\n", n)
	}
	s.WriteString("access:\n")
	for n := range 100_000 {
		fmt.Fprintf(&s, "  - {whom: [k%d], to: {instances: [i%d]}}\n", n%10_000, n)
	}
	return s.String()
}

// BenchmarkCheck checks 10,000 keys and 100,000 accesses, beside the YAML package that reads the same text alone.
func BenchmarkCheck(b *testing.B) {
	text := large(b)
	var shares []float64
	for b.Loop() {
		began := time.Now()
		var n yaml.Node
		if err := yaml.Unmarshal([]byte(text), &n); err != nil {
			b.Fatal(err)
		}
		alone := time.Since(began)
		began = time.Now()
		if _, r := Read([]Source{{"book.yaml", text}}, nil, time.Now()); r.Errors() > 0 {
			b.Fatal(r.Findings[0])
		}
		shares = append(shares, time.Since(began).Seconds()/alone.Seconds())
	}
	slices.Sort(shares)
	b.ReportMetric(shares[len(shares)/2], "times-YAML-alone")
	b.ReportMetric(0, "ns/op")
}
