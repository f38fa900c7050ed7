package api

import (
	"encoding/json"
	"errors"
	"net/http"
	"slices"

	"github.com/gin-gonic/gin"

	"plumlatch/core/names"
	"plumlatch/core/wire"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/survey"
)

// surveyFailed answers for a survey that could not look.
func (s *Server) surveyFailed(c *gin.Context, err error) {
	switch {
	case errors.Is(err, door.ErrCannotSurvey):
		conflict.answer(c, wire.Problem{Detail: err.Error()})
	case errors.Is(err, store.ErrSurveying):
		inProgress.answer(c, wire.Problem{Detail: err.Error() + "; its result is kept like any other"})
	default:
		s.fail(c, err)
	}
}

// survey finds out what opens an instance, now.
func (s *Server) survey(c *gin.Context) {
	var r wire.SurveyRequest
	if c.Request.ContentLength != 0 && !read(c, &r) {
		return
	}
	i, ok := s.withSSH(c)
	if !ok {
		return
	}
	wish := survey.SurveyWish{Inside: r.Inside || !r.Outside, Outside: r.Outside}
	for _, name := range r.Keys {
		k, err := s.opts.Store.KeyByName(c.Request.Context(), name)
		if err != nil {
			s.missing(c, "key", err)
			return
		}
		wish.Keys = append(wish.Keys, k)
	}
	if len(wish.Keys) > 0 && !wish.Outside {
		field(c, "keys", errors.New("keys are asked about from outside: say outside too"))
		return
	}
	out, err := s.opts.Worker.Survey.Survey(c.Request.Context(), actor(c), i, wish)
	if err != nil {
		s.surveyFailed(c, err)
		return
	}
	foreign(c, out)
}

// maxClientSurvey is the greatest report of a client that is read, in bytes.
const maxClientSurvey = 8 << 20

// clientSurvey takes in what an engineer's client saw from inside.
func (s *Server) clientSurvey(c *gin.Context) {
	var r wire.ClientSurvey
	if !readUpTo(c, maxClientSurvey, &r) {
		return
	}
	i, ok := s.withSSH(c)
	if !ok {
		return
	}
	by := actor(c)
	out, err := s.opts.Worker.Survey.TakeClientSurvey(c.Request.Context(), by, i, "the client of "+by.Operator+" at "+by.Address, r)
	if err != nil {
		s.surveyFailed(c, err)
		return
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) surveyMany(c *gin.Context) {
	var r wire.SurveyMany
	if !read(c, &r) {
		return
	}
	name, ok := once(c)
	if !ok {
		return
	}
	w, err := s.opts.Worker.Survey.SurveyMany(c.Request.Context(), actor(c), name, r)
	s.begun(c, w, err)
}

func showLast(r store.SurveyRow) wire.LastSurvey {
	return wire.LastSurvey{Instance: r.Instance, Region: r.Region, Sort: r.Sort, TriedAt: r.TriedAt.UTC(),
		SeenAt: r.SeenAt, Trouble: r.Trouble, Vantage: r.Vantage,
		Recorded: r.Recorded, Unrecorded: r.Unrecorded, Missing: r.Missing, Expired: r.Expired}
}

var surveyFound = []string{"trouble", "unrecorded", "missing", "expired"}

func (s *Server) listSurveys(c *gin.Context) {
	p, _, _, ok := page(c, "instance")
	if !ok {
		return
	}
	q := store.SurveyQuery{Region: c.Query("region"), Tag: c.Query("tag"), Sort: c.Query("survey"),
		Found: c.Query("found"), Page: p}
	if q.Found != "" && !checkChoice(c, "found", q.Found, surveyFound...) ||
		q.Sort != "" && !checkChoice(c, "survey", q.Sort, "inside", "outside", "client") {
		return
	}
	if v := c.Query("work"); v != "" {
		if err := json.Unmarshal([]byte(v), &q.Work); err != nil {
			field(c, "work", errors.New("the ID of a piece of work is a number"))
			return
		}
	}
	rows, next, err := s.opts.Store.Surveys(c.Request.Context(), q)
	if err != nil {
		s.fail(c, err)
		return
	}
	answerList(c, rows, next, showLast)
}

// lastSurveys shows the last survey of each sort of one instance, with what it saw.
func (s *Server) lastSurveys(c *gin.Context) {
	i, ok := s.instance(c)
	if !ok {
		return
	}
	rows, err := s.opts.Store.LastSurveys(c.Request.Context(), i.ID)
	if err != nil {
		s.fail(c, err)
		return
	}
	answerList(c, rows, "", func(r store.SurveyRow) wire.LastSurvey {
		out := showLast(r)
		out.Report = json.RawMessage(r.Report)
		return out
	})
}

// recordAccess writes down that a key that a survey found opens the instance.
func (s *Server) recordAccess(c *gin.Context) {
	var r struct {
		Fingerprint string `json:"fingerprint"` // or the name of a recorded key
		User        string `json:"user"`
		Name        string `json:"name"` // for a key that is not recorded yet
	}
	if !read(c, &r) {
		return
	}
	i, ok := s.instance(c)
	if !ok {
		return
	}
	found, err := s.opts.Worker.Survey.Unwritten(c.Request.Context(), i, r.Fingerprint, r.User)
	if err != nil {
		s.fail(c, err)
		return
	}
	if found.Key == "" {
		if err := names.Check(r.Name); err != nil {
			field(c, "name", errors.New("the key is not recorded yet: give it a name ("+err.Error()+")"))
			return
		}
	} else if r.Name != "" && names.Fold(r.Name) != names.Fold(found.Key) {
		field(c, "name", errors.New("this key is recorded already, as "+found.Key))
		return
	}
	k, err := s.opts.Store.TakeOver(c.Request.Context(), actor(c), i, found, r.Name)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusCreated, showKey(k))
}

// probing says whether the service may ask an instance from outside by itself.
func (s *Server) probing(c *gin.Context) {
	var r struct {
		Allowed bool `json:"allowed"`
	}
	if !read(c, &r) {
		return
	}
	i, ok := s.instance(c)
	if !ok {
		return
	}
	if err := s.opts.Store.AllowProbes(c.Request.Context(), actor(c), i, r.Allowed); err != nil {
		s.fail(c, err)
		return
	}
	i.ProbeAllowed = r.Allowed
	c.JSON(http.StatusOK, showInstance(i))
}

func (s *Server) instanceTimeline(c *gin.Context) {
	if i, ok := s.instance(c); ok {
		s.timeline(c, &i, nil)
	}
}

func (s *Server) keyTimeline(c *gin.Context) {
	if k, ok := s.key(c); ok {
		s.timeline(c, nil, &k)
	}
}

func (s *Server) timeline(c *gin.Context, i *store.Instance, k *store.Key) {
	rows, err := s.opts.Store.Timeline(c.Request.Context(), i, k)
	if err != nil {
		s.fail(c, err)
		return
	}
	answerList(c, rows, "", func(h store.Happened) wire.TimelineEvent {
		return wire.TimelineEvent{At: h.At.UTC(), Until: h.Until, Sort: h.Sort, What: h.What, Instance: h.Instance,
			Key: h.Key, From: h.Vantage, Open: h.Open}
	})
}

// discover shows how the cloud's list differs from the ledger's; POST asks the cloud now.
func (s *Server) discover(c *gin.Context) {
	ask := s.opts.Worker.Upkeep.Discovered
	if c.Request.Method == http.MethodPost {
		ask = s.opts.Worker.Upkeep.Discover
	}
	out, err := ask(c.Request.Context())
	if err != nil {
		s.fail(c, err)
		return
	}
	foreign(c, out)
}

// accessMap shows keys against instances.
func (s *Server) accessMap(c *gin.Context) {
	instances, keys, cells, cut, err := s.opts.Store.AccessMap(c.Request.Context(),
		store.MapQuery{Region: c.Query("region"), Tag: c.Query("tag"), Holder: c.Query("holder")})
	if err != nil {
		s.fail(c, err)
		return
	}
	out := wire.AccessMap{Keys: []wire.MapKey{}, Instances: []wire.MapInstance{}, Cells: []wire.MapCell{}, Cut: cut}
	column, row := map[int64]int{}, map[string]int{}
	soles, err := s.opts.Store.SoleOpeners(c.Request.Context(), instances)
	if err != nil {
		s.fail(c, err)
		return
	}
	used, err := s.daysUnused(c.Request.Context(), instances)
	if err != nil {
		s.fail(c, err)
		return
	}
	for n, i := range instances {
		column[i.ID] = n
		out.Instances = append(out.Instances, wire.MapInstance{Name: i.Name, Region: i.Region, Tags: i.Tags})
	}
	for n, k := range keys {
		row[k.Fingerprint] = n
		out.Keys = append(out.Keys, wire.MapKey{Name: k.Name, Fingerprint: k.Fingerprint, Holder: k.Holder,
			State: k.State, Cuts: cuts(k.Public())})
	}
	for _, m := range cells {
		if _, ok := row[m.Fingerprint]; !ok && m.KeyID == 0 { // nobody wrote it down
			row[m.Fingerprint] = len(out.Keys)
			out.Keys = append(out.Keys, wire.MapKey{Fingerprint: m.Fingerprint, State: "unrecorded", Cuts: []int{}})
		}
	}
	for _, m := range cells {
		r, ok := row[m.Fingerprint]
		if !ok { // of a key past the cut
			continue
		}
		out.Cells = append(out.Cells, wire.MapCell{K: r, I: column[m.InstanceID], E: m.Standing, Old: m.Old,
			Age: m.Age, Used: used(m.InstanceID, m.Fingerprint), Sole: soles[m.InstanceID] != "" && soles[m.InstanceID] == m.Fingerprint})
	}
	slices.SortFunc(out.Cells, func(a, b wire.MapCell) int {
		if a.K != b.K {
			return a.K - b.K
		}
		return a.I - b.I
	})
	c.JSON(http.StatusOK, out)
}

// evidenceAges counts accesses by the age of their evidence.
func (s *Server) evidenceAges(c *gin.Context) {
	a, err := s.opts.Store.EvidenceAges(c.Request.Context())
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, gin.H{"days_1": a.Days1, "days_7": a.Days7, "days_30": a.Days30, "days_90": a.Days90,
		"older": a.Older, "none": a.None})
}
