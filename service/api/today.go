package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"plumlatch/core/access"
	"plumlatch/core/keypair"
	"plumlatch/core/wire"
	"plumlatch/service/store"
)

// counted keeps the number of matters by reason for a second: counting reads
// them all, and a list is asked for more often than it changes.
type counted struct {
	mu   sync.Mutex
	at   time.Time
	rows []store.MatterCount
}

func (s *Server) counts(c *gin.Context) ([]store.MatterCount, error) {
	s.counted.mu.Lock()
	defer s.counted.mu.Unlock()
	if time.Since(s.counted.at) < time.Second {
		return s.counted.rows, nil
	}
	rows, err := s.opts.Store.MatterCounts(c.Request.Context())
	if err == nil {
		s.counted.rows, s.counted.at = rows, time.Now()
	}
	return rows, err
}

func (s *Server) countAgain() {
	s.counted.mu.Lock()
	s.counted.at = time.Time{}
	s.counted.mu.Unlock()
}

func showMatter(m store.Matter) wire.Matter {
	return wire.Matter{ID: m.ID, Urgency: string(access.UrgencyOf(m.Rank)), Reason: m.Reason, Subject: m.Subject,
		Sentence: m.Sentence, Evidence: m.Evidence, Command: m.Command,
		Instance: m.Instance, Key: m.Key, Since: m.Since.UTC(), OffUntil: m.OffUntil,
		OffReason: m.OffReason, OffBy: m.OffBy}
}

// today lists what needs a hand, most urgent first.
func (s *Server) today(c *gin.Context) {
	p, _, _, ok := page(c, "urgency")
	if !ok {
		return
	}
	q := store.MatterQuery{Reason: c.Query("reason"), Instance: c.Query("instance"), Key: c.Query("key"),
		Region: c.Query("region"), Urgency: c.Query("urgency"), Off: c.Query("off") == "true", Page: p}
	if q.Urgency != "" && !checkChoice(c, "urgency", q.Urgency, "now", "soon", "later") ||
		q.Reason != "" && !checkChoice(c, "reason", q.Reason, access.ReasonNames()...) {
		return
	}
	if c.Query("new") == "true" {
		q.NewFor = operator(c).Name
	}
	rows, next, err := s.opts.Store.Matters(c.Request.Context(), q)
	waits, empty := len(rows) > 0 && rows[0].Waits, err == nil && len(rows) == 0
	if empty { // which say nothing of it
		waits, err = s.opts.Store.ToJudge(c.Request.Context())
	}
	if err == nil && waits { // what was changed a moment ago is in the answer
		err = s.opts.Worker.Upkeep.JudgeNow(c.Request.Context())
		s.countAgain()
	}
	// Where nothing waits any more, it may have been judged between the two questions: so it is read again.
	if err == nil && (waits || empty) {
		rows, next, err = s.opts.Store.Matters(c.Request.Context(), q)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	counts, err := s.counts(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := wire.Today{List: wire.List[wire.Matter]{Items: []wire.Matter{}, NextCursor: next}, Counts: map[string]int{}}
	costs := sync.OnceValue(func() string { return s.restoreCosts(c.Request.Context()) }) // the same for each row
	for _, m := range rows {
		shown := showMatter(m)
		if m.Reason == string(access.NoWayIn) || m.Reason == string(access.NoWayBack) {
			shown.Costs = costs()
		}
		out.Items = append(out.Items, shown)
	}
	for _, n := range counts {
		if n.Open > 0 {
			out.Counts[n.Reason] = n.Open
		}
		out.Off += n.Off
	}
	c.JSON(http.StatusOK, out)
}

// restoreCosts is what a way back in costs at most: a rescue instance for an hour, where the way is the disk.
func (s *Server) restoreCosts(ctx context.Context) string {
	var most *wire.Price
	for _, of := range s.opts.Worker.Door.Clouds.All() {
		if p := s.opts.Worker.Door.SizePrice(ctx, of, of.Properties().RescueSize, 0); p != nil && (most == nil || p.Hour > most.Hour) {
			most = p
		}
	}
	if most == nil {
		return ""
	}
	return fmt.Sprintf("at most %.4g %s, for an hour of a rescue instance, if its disk is the way", most.Hour, most.Currency)
}

// todaySeen notes that the operator has seen all that there was at a time.
func (s *Server) todaySeen(c *gin.Context) {
	var r struct {
		UpTo time.Time `json:"up_to"`
	}
	if !read(c, &r) {
		return
	}
	now, err := s.opts.Store.Now(c.Request.Context())
	if err == nil {
		if r.UpTo.After(now) {
			r.UpTo = now
		}
		err = s.opts.Store.MatterMark(c.Request.Context(), operator(c).Name, r.UpTo)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// putOff puts a matter off until a time, or takes it up again.
func (s *Server) putOff(c *gin.Context) {
	var r wire.PutOff
	if !read(c, &r) {
		return
	}
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		notFound.answer(c, wire.Problem{})
		return
	}
	if !checkText(c, "reason", r.Reason) {
		return
	}
	if r.Until != nil {
		if r.Reason == "" {
			field(c, "reason", errors.New("say why it can wait: whoever reads the list next will ask"))
			return
		}
		now, err := s.opts.Store.Now(c.Request.Context())
		if err != nil {
			s.fail(c, err)
			return
		}
		if d := r.Until.Sub(now); d <= 0 || d > 366*24*time.Hour {
			field(c, "until", errors.New("give a time to come, within a year"))
			return
		}
	}
	m, err := s.opts.Store.PutOff(c.Request.Context(), actor(c), id, r.Until, r.Reason)
	if err != nil {
		s.fail(c, err)
		return
	}
	s.countAgain()
	c.JSON(http.StatusOK, showMatter(m))
}

func (s *Server) showPolicy(c *gin.Context) {
	p, err := s.opts.Store.Policy(c.Request.Context())
	if err != nil {
		s.fail(c, err)
		return
	}
	out := wire.Policy{Text: access.DefaultPolicy}
	if p.Text != "" {
		out = wire.Policy{Text: p.Text, At: &p.At, By: p.By}
	}
	c.JSON(http.StatusOK, out)
}

// runsTwice tells that no cloud which makes images can shut the way out of a copy.
func (s *Server) runsTwice() bool {
	made, shut := false, false
	for _, c := range s.opts.Worker.Door.Clouds.All() {
		if images := c.Properties().Images; images != nil {
			made, shut = true, shut || images.ShutsOut
		}
	}
	return made && !shut
}

// setPolicy sets the policy, or, with check=true, only says whether it could be.
func (s *Server) setPolicy(c *gin.Context) {
	var r wire.Policy
	if !read(c, &r) {
		return
	}
	if keypair.LooksPrivate([]byte(r.Text)) { // a comment would be kept with the rest
		privateKey.answer(c, wire.Problem{Field: "text", Detail: privateDetail})
		return
	}
	p, err := access.ReadPolicy(r.Text)
	if err == nil && p.Rehearse.Every > 0 && s.runsTwice() {
		err = errors.New("rehearse.every: this cloud cannot shut the way out of a copy, so what runs there would run twice; somebody has to " +
			"accept that each time (plumlatch restore rehearse)")
	}
	if err != nil {
		field(c, "text", err)
		return
	}
	if c.Query("check") != "true" {
		if err := s.opts.Store.SetPolicy(c.Request.Context(), actor(c), r.Text); err != nil {
			s.fail(c, err)
			return
		}
		s.opts.Worker.Door.PolicyChanged()
		s.countAgain()
	}
	c.JSON(http.StatusOK, r)
}

// badDay takes a key into the state lost, exposed, or found again, and says
// what follows. With plan it only says what would.
func (s *Server) badDay(c *gin.Context) {
	var r wire.KeyBadDay
	if !read(c, &r) || !checkText(c, "reason", r.Reason) ||
		!checkChoice(c, "state", r.State, access.Lost, access.Exposed, access.InUse) {
		return
	}
	k, ok := s.key(c)
	if !ok {
		return
	}
	if !r.Plan {
		err := s.opts.Store.SetKeyState(c.Request.Context(), actor(c), k, r.State, r.Reason)
		if errors.Is(err, store.ErrKeyState) {
			conflict.detail(c, "%s: %v", k.Name, err)
			return
		}
		if err == nil {
			k, err = s.opts.Store.KeyByName(c.Request.Context(), k.Name)
		}
		if err != nil {
			s.fail(c, err)
			return
		}
		s.countAgain()
	}
	out, err := s.follows(c, k, r.State, nil)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) follows(c *gin.Context, k store.Key, state string, too []string) (wire.Follows, error) {
	doors, err := s.opts.Store.DoorsOfKey(c.Request.Context(), k)
	if err != nil {
		return wire.Follows{}, err
	}
	others, none := access.Follows(doors, k.Fingerprint, too...)
	out := wire.Follows{Key: showKey(k), Shut: showFollows(others), Locked: showFollows(none)}
	switch {
	case state == access.InUse:
		out.Next = "plumlatch key show " + k.Name
	case state == access.Exposed && len(none)+len(others) > 0:
		out.Next = "plumlatch rotate exposed " + k.Name + " -new KEY"
	case len(none) > 0:
		out.Next = "plumlatch restore " + none[0].Door.Name
	case len(others) > 0:
		out.Next = "plumlatch open " + others[0].Door.Name // by one of the others
	default:
		out.Next = "plumlatch today -key " + k.Name
	}
	return out, nil
}

func showFollows(all []access.Follow) []wire.FollowsDoor {
	out := []wire.FollowsDoor{}
	for _, f := range all {
		kind := f.Key.Standing.String()
		if !f.Key.Recorded {
			kind = "seen"
		}
		out = append(out, wire.FollowsDoor{Instance: f.Door.Name, LoginUser: f.Key.LoginUser, Evidence: kind,
			Old: f.Key.Old, Recorded: f.Key.Recorded, Others: append([]string{}, f.Others...), Why: f.Why})
	}
	return out
}

// holderLeft records that a holder left, and says what follows for every key
// that the holder had.
func (s *Server) holderLeft(c *gin.Context) {
	var r wire.HolderLeft
	if !read(c, &r) {
		return
	}
	held, err := s.opts.Store.KeysHeldBy(c.Request.Context(), c.Param("name"))
	if errors.Is(err, store.ErrHolder) {
		notFound.detail(c, "there is no holder of this name; \"plumlatch holder list\" shows what there is")
		return
	}
	if err == nil && !r.Plan {
		err = s.opts.Store.HolderLeft(c.Request.Context(), actor(c), c.Param("name"))
		s.countAgain()
	}
	if errors.Is(err, store.ErrKeyState) {
		conflict.detail(c, "%v", err)
		return
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	out := []wire.Follows{}
	var all []string
	for _, h := range held {
		all = append(all, h.Fingerprint)
	}
	for _, h := range held {
		k := h.Key
		if !r.Plan {
			if k, err = s.opts.Store.KeyByName(c.Request.Context(), k.Name); err != nil {
				s.fail(c, err)
				return
			}
		}
		f, err := s.follows(c, k, access.Exposed, all)
		if err != nil {
			s.fail(c, err)
			return
		}
		f.Why = "held it"
		if h.Team != "" {
			f.Why = "had it as one of " + h.Team
		}
		out = append(out, f)
	}
	answerList(c, out, "", func(f wire.Follows) wire.Follows { return f })
}

// changeHolder puts a holder into a team, or takes the holder out of one.
func (s *Server) changeHolder(c *gin.Context) {
	var r wire.HolderChange
	if !read(c, &r) {
		return
	}
	err := s.opts.Store.ChangeHolder(c.Request.Context(), actor(c), c.Param("name"), r.Join, r.Leave)
	if errors.Is(err, store.ErrTeam) {
		conflict.detail(c, "%v", err)
		return
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// metrics answers in Prometheus' text format, to whoever may view.
func (s *Server) metrics(c *gin.Context) {
	if err := s.opts.Worker.Upkeep.JudgeNow(c.Request.Context()); err != nil {
		s.fail(c, err)
		return
	}
	counts, err := s.opts.Store.MatterCounts(c.Request.Context())
	if err != nil {
		s.fail(c, err)
		return
	}
	queue, err := s.opts.Store.Queue(c.Request.Context())
	if err != nil {
		s.fail(c, err)
		return
	}
	followed, err := s.opts.Store.FollowedBooks(c.Request.Context())
	if err != nil {
		s.fail(c, err)
		return
	}
	books := prometheus.NewGaugeVec(prometheus.GaugeOpts{Name: "plumlatch_keybook_differences",
		Help: "What is not as a followed keybook says, by the book."}, []string{"book"})
	for _, b := range followed {
		if b.Name != "" {
			books.WithLabelValues(b.Name).Set(float64(b.Todo))
		}
	}
	registry := prometheus.NewRegistry()
	work := prometheus.NewGaugeVec(prometheus.GaugeOpts{Name: "plumlatch_work",
		Help: "Durable work that is not over, by state."}, []string{"state"})
	work.WithLabelValues("queued").Set(float64(queue.Queued))
	work.WithLabelValues("running").Set(float64(queue.Running))
	work.WithLabelValues("waiting").Set(float64(queue.Waiting))
	oldest := prometheus.NewGauge(prometheus.GaugeOpts{Name: "plumlatch_work_oldest_seconds",
		Help: "For how long the oldest work that could be carried out now has not been."})
	oldest.Set(queue.Oldest)
	gauge := prometheus.NewGaugeVec(prometheus.GaugeOpts{Name: "plumlatch_today",
		Help: "What needs a hand and is not put off, by reason."}, []string{"reason", "urgency"})
	off := prometheus.NewGaugeVec(prometheus.GaugeOpts{Name: "plumlatch_today_put_off",
		Help: "What is put off, by reason."}, []string{"reason"})
	registry.MustRegister(gauge, off, books, work, oldest, s.seconds, collectors.NewGoCollector(),
		prometheus.NewCounterFunc(prometheus.CounterOpts{Name: "plumlatch_database_statements_total",
			Help: "Statements that this replica has sent to the database."},
			func() float64 { return float64(s.opts.Store.Statements()) }),
		prometheus.NewCounterFunc(prometheus.CounterOpts{Name: "plumlatch_connections_total",
			Help: "Connections that this replica has opened to instances."},
			func() float64 { return counted64(s.opts.Worker.Door.Reach.Dialed) }),
		prometheus.NewCounterFunc(prometheus.CounterOpts{Name: "plumlatch_probes_total",
			Help: "Keys that servers were asked about by this replica."},
			func() float64 { return counted64(s.opts.Worker.Door.Reach.Asked) }),
		prometheus.NewCounterFunc(prometheus.CounterOpts{Name: "plumlatch_surveys_total",
			Help: "Surveys that this replica has begun."},
			func() float64 { return float64(s.opts.Worker.Survey.Done.Load()) }))
	for _, name := range access.ReasonNames() { // a reason that has none is 0, and not absent
		gauge.WithLabelValues(name, string(access.Reason(name).Urgency()))
	}
	for _, n := range counts {
		gauge.WithLabelValues(n.Reason, string(access.UrgencyOf(n.Rank))).Set(float64(n.Open))
		off.WithLabelValues(n.Reason).Set(float64(n.Off))
	}
	promhttp.HandlerFor(registry, promhttp.HandlerOpts{}).ServeHTTP(c.Writer, c.Request)
}

// counted64 is a counter that may not be there.
func counted64(n *atomic.Int64) float64 {
	if n == nil {
		return 0
	}
	return float64(n.Load())
}
