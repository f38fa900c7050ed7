package api

import (
	"encoding/json"
	"errors"
	"net/http"

	"github.com/gin-gonic/gin"

	"plumlatch/core/journal"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/service/store"
)

func (s *Server) listJournal(c *gin.Context) {
	p, _, _, ok := page(c, "time")
	if !ok {
		return
	}
	rows, next, err := s.opts.Store.Journal(c.Request.Context(), c.Query("target"), p)
	if err != nil {
		s.fail(c, err)
		return
	}
	answerList(c, rows, next, showEntry)
}

// exportJournal sends the whole journal, a JSON object a line: chained entries
// by their place, unchained ones, and signed heads.
func (s *Server) exportJournal(c *gin.Context) {
	c.Header("Content-Type", "application/jsonl")
	c.Status(http.StatusOK)
	e := json.NewEncoder(c.Writer)
	err := s.opts.Store.ExportJournal(c.Request.Context(), s.opts.Worker.Door.Heads.Public(),
		func(l journal.Line) error { return e.Encode(l) })
	if err != nil { // the answer has begun: only breaking it off says that it is not whole
		s.logOf(c).Warn("an export of the journal broke off", "error", err)
		panic(http.ErrAbortHandler)
	}
}

// verifyJournal has the service verify the journal itself.
func (s *Server) verifyJournal(c *gin.Context) {
	check, err := s.opts.Worker.Upkeep.VerifyJournal(c.Request.Context(), actor(c), operator(c).Role)
	if err != nil {
		s.fail(c, err)
		return
	}
	s.countAgain()
	c.JSON(http.StatusOK, check)
}

// checkedJournal takes down that a client has verified the journal. A break that it
// found is an alarm; that it found none is journaled, and settles nothing.
func (s *Server) checkedJournal(c *gin.Context) {
	var r wire.JournalCheck
	if !read(c, &r) {
		return
	}
	if len(r.Breaks) > 200 || r.Links < 0 {
		field(c, "breaks", errors.New("more than 200 breaks"))
		return
	}
	for n, b := range r.Breaks {
		r.Breaks[n] = plaintext.Line(plaintext.Cut(b, 300))
	}
	head := int64(0)
	if r.Head != nil {
		head = r.Head.N
	}
	err := s.opts.Store.JournalChecked(c.Request.Context(), actor(c),
		store.JournalCheck{Links: r.Links, Breaks: r.Breaks, HeadN: head, Role: operator(c).Role})
	if err == nil {
		err = s.opts.Worker.Upkeep.JudgeRest(c.Request.Context())
	}
	if err == nil {
		r.OwnerRole, err = s.opts.Store.OwnerRole(c.Request.Context())
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	s.countAgain()
	c.JSON(http.StatusOK, r)
}
