package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"plumlatch/core/wire"
)

// The bounds of a look at the cloud's lists of keys.
const (
	maxPrints    = 1000
	someEntries  = 200
	mostOfOthers = 100_000
)

// lookKeyLists reads the cloud's lists of keys.
func (s *Server) lookKeyLists(c *gin.Context) {
	var r wire.LookKeyLists
	if !read(c, &r) {
		return
	}
	if len(r.Prints) > maxPrints {
		invalidField.answer(c, wire.Problem{Field: "prints", Detail: "at most 1000"})
		return
	}
	limit := r.Limit
	if limit == 0 {
		limit = someEntries
	}
	out, err := s.opts.Worker.KeyLists.Look(c.Request.Context(), r.Regions, r.Prints, min(max(limit, 0), mostOfOthers))
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, out)
}

// listKey takes a key of the ledger into lists of the cloud.
func (s *Server) listKey(c *gin.Context) {
	var r wire.ListKey
	if !read(c, &r) {
		return
	}
	name, ok := once(c)
	if !ok {
		return
	}
	w, err := s.opts.Worker.KeyLists.List(c.Request.Context(), actor(c), name, r)
	s.begun(c, w, err)
}

// unlistKey takes entries out of lists of the cloud.
func (s *Server) unlistKey(c *gin.Context) {
	var r wire.UnlistKey
	if !read(c, &r) {
		return
	}
	name, ok := once(c)
	if !ok {
		return
	}
	w, err := s.opts.Worker.KeyLists.Unlist(c.Request.Context(), actor(c), name, r)
	s.begun(c, w, err)
}

// placedKeys are the keys that the cloud's agent places on an instance.
func (s *Server) placedKeys(c *gin.Context) {
	i, ok := s.instance(c)
	if !ok {
		return
	}
	rows, err := s.opts.Worker.KeyLists.Placed(c.Request.Context(), i)
	if err != nil {
		s.fail(c, err)
		return
	}
	answerList(c, rows, "", func(p wire.PlacedKey) wire.PlacedKey { return p })
}
