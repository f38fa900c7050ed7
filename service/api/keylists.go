package api

import (
	"context"
	"net/http"

	"github.com/gin-gonic/gin"

	"plumlatch/core/wire"
	"plumlatch/service/store"
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

// placeKey has the cloud's own agent let a key in.
func (s *Server) placeKey(c *gin.Context) {
	begins(s, c, func(name store.Once, i store.Instance, p wire.PlaceKey) (store.Work, error) {
		return s.opts.Worker.Accesses.PlaceByCloud(c.Request.Context(), actor(c), name, i, p)
	})
}

// lendForWork has the cloud lend a key for a restore that waits for it.
func (s *Server) lendForWork(c *gin.Context) {
	var r wire.LendKey
	if !read(c, &r) {
		return
	}
	tellOf(s, c, func(ctx context.Context, w store.Work) (wire.Lent, error) {
		i, err := s.opts.Store.InstanceByID(ctx, w.InstanceID)
		if err == nil { // whoever comes in there first could become root there, also by somebody else's restore
			err = s.opts.Worker.Lifecycle.MayEnter(ctx, operator(c).Name, operator(c).Role, i)
		}
		if err != nil {
			return wire.Lent{}, err
		}
		return s.opts.Worker.Restore.Lend(ctx, actor(c), w, r)
	}, "this work waits for no key that the cloud lends")
}

// lendKey has the cloud lend a key, so that somebody whose key is not there yet gets in once.
func (s *Server) lendKey(c *gin.Context) {
	var r wire.LendKey
	if !read(c, &r) {
		return
	}
	i, ok := s.instance(c)
	if !ok {
		return
	}
	out, err := s.opts.Worker.Restore.LendTo(c.Request.Context(), actor(c), i, r)
	s.answer(c, out, err)
}
