package door

import (
	"context"
	"sync"
	"time"

	"plumlatch/core/wire"
	"plumlatch/service/cloud"
)

// MonthHours is how many hours a price for a month stands for: a year's twelfth.
const MonthHours = 730

// prices are the cloud's price list, as it was asked for last. It changes rarely, and a page
// that shows it waits for nobody.
type prices struct {
	mu    sync.Mutex
	terms cloud.Terms
	good  bool
	until time.Time
}

// Prices is the cloud's price list; false if the cloud does not say. It is asked at most
// every ten minutes, and every minute while it gives no answer.
func (s *Service) Prices(ctx context.Context) (cloud.Terms, bool) {
	p := &s.prices
	p.mu.Lock()
	defer p.mu.Unlock()
	if time.Now().Before(p.until) {
		return p.terms, p.good
	}
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	terms, err := s.Cloud.Terms(ctx)
	p.terms, p.good, p.until = terms, err == nil && terms.Currency != "", time.Now().Add(10*time.Minute)
	if err != nil {
		p.until = time.Now().Add(time.Minute)
	}
	return p.terms, p.good
}

// priced is an amount an hour as the API shows it; nil for one that is not known.
func priced(t cloud.Terms, hour float64, known bool) *wire.Price {
	if !known {
		return nil
	}
	return &wire.Price{Hour: hour, Month: hour * MonthHours, Currency: t.Currency}
}

// SizePrice is what an instance of a size costs with a root volume of so many GiB, 0 for none;
// nil where the cloud does not say.
func (s *Service) SizePrice(ctx context.Context, size string, diskGB int) *wire.Price {
	t, ok := s.Prices(ctx)
	hour, has := t.InstanceHour[size]
	return priced(t, hour+float64(diskGB)*t.VolumeHourGB, ok && has)
}

// AddressPrice is what a static address costs; nil where the cloud does not say.
func (s *Service) AddressPrice(ctx context.Context) *wire.Price {
	t, ok := s.Prices(ctx)
	if !ok || t.StaticHour == nil {
		return nil
	}
	return priced(t, *t.StaticHour, true)
}
