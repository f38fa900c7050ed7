package keylists_test

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"plumlatch/core/keypair"
	"plumlatch/service/kinds/kindtest"
	"plumlatch/standin"
)

// BenchmarkLook: 20 lists of 5,000 keys each are set against the ledger within four times the time that reading them
// takes, as many at a time.
func BenchmarkLook(b *testing.B) {
	const regions, entries, atOnce = 20, 5000, 8
	had := standin.Regions
	b.Cleanup(func() { standin.Regions = had })
	h := kindtest.New(b)
	for n := len(standin.Regions); n < regions; n++ {
		name := fmt.Sprintf("quay-%d", n)
		standin.Regions = append(standin.Regions[:n:n], standin.Region{Name: name, Title: name, Zones: []string{name + "-a"}})
	}
	for n := range 50 { // of the ledger; some of them are listed
		h.Key(fmt.Sprintf("known-%d", n))
	}
	known, err := h.DB.ListKeys(h.Context())
	if err != nil {
		b.Fatal(err)
	}
	for n, r := range standin.Regions {
		var lines []string
		for range entries - 1 {
			pair, err := keypair.Create(keypair.Ed25519, "x")
			if err != nil {
				b.Fatal(err)
			}
			lines = append(lines, pair.Public.Line())
		}
		lines = append(lines, keypair.Public{Blob: known[n].Blob}.Line())
		if err := h.Cloud.FillKeyEntries(r.Name, lines); err != nil {
			b.Fatal(err)
		}
	}
	bare := func() {
		slots := make(chan struct{}, atOnce)
		var all sync.WaitGroup
		for _, r := range standin.Regions {
			all.Go(func() {
				slots <- struct{}{}
				defer func() { <-slots }()
				if l, err := h.W.Door.Clouds.Named("standin").ListKeys(b.Context(), r.Name); err != nil || len(l.Entries) != entries {
					b.Errorf("%d entries, %v", len(l.Entries), err)
				}
			})
		}
		all.Wait()
	}
	look := func() {
		l, err := h.W.KeyLists.Look(b.Context(), nil, nil, 200)
		if err != nil || len(l.Entries) != regions+200 || l.LeftOut != regions*(entries-1)-200 {
			b.Fatalf("%d entries, %d left out, %v", len(l.Entries), l.LeftOut, err)
		}
	}
	bare()
	look()
	var of, read time.Duration
	for b.Loop() {
		began := time.Now()
		bare()
		read += time.Since(began)
		began = time.Now()
		look()
		of += time.Since(began)
	}
	b.ReportMetric(0, "ns/op")
	b.ReportMetric(float64(of)/float64(read), "times-reading-the-lists")
	b.ReportMetric(float64(read.Milliseconds())/float64(b.N), "ms-for-reading-them")
}
