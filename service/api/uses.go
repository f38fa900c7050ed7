package api

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"plumlatch/core/wire"
	"plumlatch/service/store"
)

// Who really came in: the word of the instances' own logs. It is shown beside what is known, and counts nowhere as a way in.

// used adds to accesses when their keys were used, by the instances' logs; with a fingerprint they are all of that key.
func (s *Server) used(ctx context.Context, out []wire.Access, rows []store.Access, fingerprint string) error {
	if len(rows) == 0 {
		return nil
	}
	var ids []int64
	for _, a := range rows {
		ids = append(ids, a.InstanceID)
	}
	slices.Sort(ids)
	all, err := s.opts.Store.LastUses(ctx, slices.Compact(ids), fingerprint)
	if err != nil || len(all) == 0 {
		return err
	}
	type use struct {
		instance    int64
		user, print string
	}
	last := map[use]*wire.Used{}
	for _, u := range all {
		last[use{u.InstanceID, u.LoginUser, u.Fingerprint}] = &wire.Used{First: u.FirstAt.UTC(), Last: u.LastAt.UTC(), Count: u.Count, Trusted: u.Trusted}
	}
	for n := range out {
		out[n].Used = last[use{rows[n].InstanceID, out[n].LoginUser, out[n].Fingerprint}]
	}
	return nil
}

// daysUnused tells, for each key on each instance, how many days ago it came in last, by the instance's log: -1 where that has nothing of it.
// It is nil where no log was seen.
func (s *Server) daysUnused(ctx context.Context, instances []store.Instance) (func(instance int64, fingerprint string) *int, error) {
	ids := make([]int64, 0, len(instances))
	for _, i := range instances {
		ids = append(ids, i.ID)
	}
	read, err := s.opts.Store.LogsRead(ctx, ids)
	if err != nil || len(read) == 0 {
		return func(int64, string) *int { return nil }, err
	}
	all, err := s.opts.Store.LastUses(ctx, ids, "")
	if err != nil {
		return nil, err
	}
	type use struct {
		instance int64
		print    string
	}
	last := map[use]time.Time{}
	for _, u := range all {
		if k := (use{u.InstanceID, u.Fingerprint}); u.LastAt.After(last[k]) {
			last[k] = u.LastAt
		}
	}
	return func(instance int64, fingerprint string) *int {
		if !read[instance] {
			return nil
		}
		days := -1
		if at, ok := last[use{instance, fingerprint}]; ok {
			days = int(max(time.Since(at), 0) / (24 * time.Hour))
		}
		return &days
	}, nil
}

func showLog(l *store.LoginLog) *wire.LogRead {
	if l == nil {
		return nil
	}
	out := &wire.LogRead{Source: l.Source, ReadAt: l.ReadAt.UTC(), Vantage: l.Vantage, Skew: l.Skew, LeftOut: l.LeftOut}
	if l.Since != nil {
		since := l.Since.UTC()
		out.Since = &since
	}
	return out
}

// maxUsed is how many uses are listed.
const maxUsed = 1000

// listUses lists who really came in: on an instance, by a key, or the last ones everywhere.
func (s *Server) listUses(c *gin.Context) {
	q := store.UseQuery{Limit: maxUsed}
	var ok bool
	if q.Instance, ok = s.instanceAsked(c); !ok {
		return
	}
	if q.Fingerprint = c.Query("fingerprint"); q.Fingerprint != "" {
		p, ok := printOf(c, "fingerprint", q.Fingerprint)
		if !ok {
			return
		}
		k, sha256, err := s.byPrint(c.Request.Context(), p)
		if err != nil {
			s.fail(c, err)
			return
		}
		if q.Fingerprint = sha256; k.ID != 0 {
			q.Fingerprint = k.Fingerprint
		}
	}
	rows, err := s.opts.Store.Uses(c.Request.Context(), q)
	if err != nil {
		s.fail(c, err)
		return
	}
	answerList(c, rows, "", func(r store.UsedRow) wire.UsedRow {
		out := wire.UsedRow{Instance: r.Instance, LoginUser: r.LoginUser, Method: r.Method, Fingerprint: r.Fingerprint, Key: r.Key,
			Steward: r.Steward, Authority: r.Authority, CertID: r.CertID, Addresses: strings.Fields(r.Addresses),
			Used: wire.Used{First: r.FirstAt.UTC(), Last: r.LastAt.UTC(), Count: r.Count, Trusted: r.Trusted}}
		if r.Key != "" {
			out.KeyState = stateOf(r.KeyState, r.Retired)
		}
		return out
	})
}
