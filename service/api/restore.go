package api

import (
	"errors"
	"net/http"

	"github.com/gin-gonic/gin"

	"plumlatch/core/wire"
	"plumlatch/service/store"
)

// routes compares the ways back into an instance, and changes nothing there.
func (s *Server) routes(c *gin.Context) {
	var r wire.CompareRoutes
	if !read(c, &r) {
		return
	}
	i, ok := s.instance(c)
	if !ok {
		return
	}
	out, _, err := s.opts.Worker.RoutesOf(c, i.Name, r.Ask)
	if errors.Is(err, store.ErrNotFound) {
		conflict.detail(c, "%s is %s: there is nothing to get back into yet", i.Name, i.Phase)
		return
	}
	s.answer(c, out, err)
}

// restore begins to carry one out.
func (s *Server) restore(c *gin.Context) {
	begins(s, c, func(name store.Once, i store.Instance, r wire.Restore) (store.Work, error) {
		return s.opts.Worker.Restore(c, actor(c), name, i, r)
	})
}

// ready tells, of every instance, which ways back in are open today.
func (s *Server) restoreReady(c *gin.Context) {
	rows, err := s.opts.Worker.Ready(c, c.Query("tag"))
	s.answer(c, wire.List[wire.ReadyRow]{Items: rows}, err)
}

// planRestoreMany tells which instances only a lost key opened.
func (s *Server) planRestoreMany(c *gin.Context) {
	var r wire.RestoreMany
	if !read(c, &r) {
		return
	}
	p, err := s.opts.Worker.PlanRestoreMany(c, r)
	s.answer(c, p, err)
}

// restoreMany begins to restore them.
func (s *Server) restoreMany(c *gin.Context) {
	var r wire.RestoreMany
	if !read(c, &r) {
		return
	}
	name, ok := once(c)
	if !ok {
		return
	}
	w, err := s.opts.Worker.RestoreMany(c, actor(c), name, r)
	s.begun(c, w, err)
}

// restoreLines are what somebody with another way in adds.
func (s *Server) restoreLines(c *gin.Context) {
	w, ok := s.work(c)
	if !ok {
		return
	}
	out, err := s.opts.Worker.RestoreLines(c, w)
	if errors.Is(err, store.ErrWorkState) {
		conflict.detail(c, "this work waits for no line: it is over, or of another kind")
		return
	}
	s.answer(c, out, err)
}

// reportPlaced takes somebody's word that they stand.
func (s *Server) reportPlaced(c *gin.Context) {
	var r wire.PlacedReport
	if !read(c, &r) {
		return
	}
	w, ok := s.work(c)
	if !ok {
		return
	}
	s.told(c, w, s.opts.Worker.ReportPlaced(c, actor(c), w, r))
}

// rescueDoor tells where files are copied out of a volume.
func (s *Server) rescueDoor(c *gin.Context) {
	w, ok := s.work(c)
	if !ok {
		return
	}
	out, err := s.opts.Worker.RescueDoor(w)
	if errors.Is(err, store.ErrWorkState) {
		conflict.detail(c, "this work copies nothing out: it is over, or of another kind")
		return
	}
	s.answer(c, out, err)
}

// reportFetched takes a client's word that it has copied what it wanted.
func (s *Server) reportFetched(c *gin.Context) {
	var r wire.Fetched
	if !read(c, &r) {
		return
	}
	w, ok := s.work(c)
	if !ok {
		return
	}
	s.told(c, w, s.opts.Worker.ReportFetched(c, actor(c), w, r))
}

// report tells what is to be known of a restore.
func (s *Server) report(c *gin.Context) {
	w, ok := s.work(c)
	if !ok {
		return
	}
	out, err := s.opts.Worker.Report(c, w)
	if errors.Is(err, store.ErrWorkState) {
		conflict.detail(c, "only a restore has a report; \"plumlatch work show %d\" has the steps of this work", w.ID)
		return
	}
	s.answer(c, out, err)
}

// changeChecks says what "works" means for an instance.
func (s *Server) changeChecks(c *gin.Context) {
	var r wire.CheckChange
	if !read(c, &r) {
		return
	}
	i, ok := s.instance(c)
	if !ok {
		return
	}
	if err := s.opts.Worker.ChangeChecks(c, actor(c), i, r); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// rescueTerms shows what a rescue instance is opened with.
func (s *Server) rescueTerms(c *gin.Context) { c.JSON(http.StatusOK, s.opts.Worker.RescueTerms()) }

// setRescue says that an instance rescues others, or no longer.
func (s *Server) setRescue(c *gin.Context) {
	var r wire.RescueChange
	if !read(c, &r) {
		return
	}
	i, ok := s.instance(c)
	if !ok {
		return
	}
	if err := s.opts.Worker.SetRescue(c, actor(c), i, r); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// answer answers with a document, or with what went wrong.
func (s *Server) answer(c *gin.Context, out any, err error) {
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, out)
}
