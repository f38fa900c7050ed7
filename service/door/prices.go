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

// prices are the clouds' price lists, as they were asked for last. They change rarely, and a page
// that shows one waits for nobody.
type prices struct {
	mu sync.Mutex
	of map[string]*priceList // by the cloud's name
}

type priceList struct {
	terms cloud.Terms
	good  bool
	until time.Time
}

// Prices is a cloud's price list; false if the cloud does not say. It is asked at most
// every ten minutes, and every minute while it gives no answer.
func (s *Service) Prices(ctx context.Context, c cloud.Driver) (cloud.Terms, bool) {
	s.prices.mu.Lock()
	defer s.prices.mu.Unlock()
	p, ok := s.prices.of[c.Name()]
	if !ok {
		if s.prices.of == nil {
			s.prices.of = map[string]*priceList{}
		}
		p = &priceList{}
		s.prices.of[c.Name()] = p
	}
	if time.Now().Before(p.until) {
		return p.terms, p.good
	}
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	terms, err := c.Terms(ctx)
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

// SizePrice is what an instance of a size of a cloud costs with a root volume of so many GiB, 0 for none;
// nil where the cloud does not say.
func (s *Service) SizePrice(ctx context.Context, c cloud.Driver, size string, diskGB int) *wire.Price {
	t, ok := s.Prices(ctx, c)
	hour, has := t.InstanceHour[size]
	return priced(t, hour+float64(diskGB)*t.VolumeHourGB, ok && has)
}

// Sizes returns the sizes of a region, or of all, with what each costs.
func (s *Service) Sizes(ctx context.Context, region string) (out []cloud.Size, err error) {
	for _, c := range s.Clouds.All() {
		if region != "" {
			if c, err = s.Clouds.In(ctx, region); err != nil {
				return nil, err
			}
		}
		all, err := c.Sizes(ctx, region)
		if err != nil {
			return nil, err
		}
		for n := range all {
			all[n].Price = s.SizePrice(ctx, c, all[n].Name, 0)
		}
		if out = append(out, all...); region != "" {
			break
		}
	}
	return out, nil
}

// AddressPrice is what a static address of a cloud costs; nil where the cloud does not say.
func (s *Service) AddressPrice(ctx context.Context, c cloud.Driver) *wire.Price {
	t, ok := s.Prices(ctx, c)
	if !ok || t.StaticHour == nil {
		return nil
	}
	return priced(t, *t.StaticHour, true)
}
