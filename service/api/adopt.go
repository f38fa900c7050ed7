package api

import (
	"errors"
	"net/http"

	"github.com/gin-gonic/gin"

	"plumlatch/core/wire"
	"plumlatch/service/store"
)

// maxAdoption is the most that an adoption may send, in bytes: it carries the
// public keys that the client read.
const maxAdoption = 4 << 20

// adopt records an instance that is there already, and tells the client which
// lines to place for the steward.
func (s *Server) adopt(c *gin.Context) {
	var a wire.Adoption
	if !readUpTo(c, maxAdoption, &a) {
		return
	}
	name, ok := once(c)
	if !ok {
		return
	}
	i, out, err := s.opts.Worker.Lifecycle.Adopt(c.Request.Context(), actor(c), name, a)
	if err != nil {
		s.fail(c, err)
		return
	}
	out.Instance = showInstance(i)
	c.JSON(http.StatusAccepted, out)
}

// adoptFound adopts an instance from the cloud's list.
func (s *Server) adoptFound(c *gin.Context) {
	var a wire.FoundAdoption
	if !read(c, &a) {
		return
	}
	name, ok := once(c)
	if !ok {
		return
	}
	i, err := s.opts.Worker.Lifecycle.AdoptFound(c.Request.Context(), actor(c), operator(c).Role, name, a)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusAccepted, showInstance(i))
}

// link says which of the cloud's instances an adopted one is.
func (s *Server) link(c *gin.Context) {
	var l wire.CloudLink
	if !read(c, &l) {
		return
	}
	i, ok := s.instance(c)
	if !ok {
		return
	}
	i, err := s.opts.Worker.Lifecycle.Link(c.Request.Context(), actor(c), operator(c).Role, i, l)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, showInstance(i))
}

// reportLine takes the client's word that the steward's line stands, or was taken out.
func (s *Server) reportLine(c *gin.Context) {
	var r wire.LineReport
	if !read(c, &r) {
		return
	}
	w, ok := s.work(c)
	if !ok {
		return
	}
	s.told(c, w, s.opts.Worker.Lifecycle.ReportLine(c.Request.Context(), w, r))
}

// adoptMany begins a piece of work that many adoptions are part of.
func (s *Server) adoptMany(c *gin.Context) {
	var r wire.AdoptMany
	if !read(c, &r) {
		return
	}
	if r.Count < 1 || r.Count > 100_000 {
		field(c, "count", errors.New("give how many there will be, 1 to 100000"))
		return
	}
	name, ok := once(c)
	if !ok {
		return
	}
	w, err := s.opts.Worker.Lifecycle.AdoptMany(c.Request.Context(), actor(c), name, r.Count)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusAccepted, s.workOut(w))
}

// closeParts says that no further part comes.
func (s *Server) closeParts(c *gin.Context) {
	w, ok := s.work(c)
	if !ok {
		return
	}
	s.told(c, w, s.opts.Worker.Lifecycle.CloseParts(c.Request.Context(), w))
}

func (s *Server) told(c *gin.Context, w store.Work, err error) {
	if errors.Is(err, store.ErrWorkState) {
		conflict.answer(c, wire.Problem{Detail: "this work waits for no such word: it is over, or of another kind"})
		return
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, s.workOut(w))
}
