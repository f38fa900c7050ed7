package api

import (
	"context"
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
	out, _, err := s.opts.Worker.Restore.RoutesOf(c.Request.Context(), i.Name, r.Ask)
	if errors.Is(err, store.ErrNotFound) {
		conflict.detail(c, "%s is %s: there is nothing to get back into yet", i.Name, i.Phase)
		return
	}
	s.answer(c, out, err)
}

// restore begins to carry one out.
func (s *Server) restore(c *gin.Context) {
	begins(s, c, func(name store.Once, i store.Instance, r wire.Restore) (store.Work, error) {
		// Whoever lets somebody in there for the first time could become root there.
		if err := s.opts.Worker.Lifecycle.MayEnter(c.Request.Context(), operator(c).Name, operator(c).Role, i); err != nil {
			return store.Work{}, err
		}
		return s.opts.Worker.Restore.Restore(c.Request.Context(), actor(c), name, i, r)
	})
}

// ready tells, of every instance, which ways back in are open today.
func (s *Server) restoreReady(c *gin.Context) {
	rows, err := s.opts.Worker.Restore.Ready(c.Request.Context(), c.Query("tag"))
	s.answer(c, wire.List[wire.ReadyRow]{Items: rows}, err)
}

// planRestoreMany tells which instances only a lost key opened.
func (s *Server) planRestoreMany(c *gin.Context) {
	var r wire.RestoreMany
	if !read(c, &r) {
		return
	}
	p, err := s.opts.Worker.Fleet.PlanRestoreMany(c.Request.Context(), r)
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
	w, err := s.opts.Worker.Fleet.RestoreMany(c.Request.Context(), actor(c), name, r)
	s.begun(c, w, err)
}

// restoreLines are what somebody with another way in adds.
func (s *Server) restoreLines(c *gin.Context) {
	tellOf(s, c, s.opts.Worker.Restore.RestoreLines, "this work waits for no line: it is over, or of another kind")
}

// reportPlaced takes somebody's word that they stand.
func (s *Server) reportPlaced(c *gin.Context) { heard(s, c, s.opts.Worker.Restore.ReportPlaced) }

// rescueDoor tells where files are copied out of a volume.
func (s *Server) rescueDoor(c *gin.Context) {
	tellOf(s, c, s.opts.Worker.Restore.RescueDoor, "this work copies nothing out: it is over, or of another kind")
}

// reportFetched takes a client's word that it has copied what it wanted.
func (s *Server) reportFetched(c *gin.Context) { heard(s, c, s.opts.Worker.Restore.ReportFetched) }

// copyDoor tells where services are started on a copy.
func (s *Server) copyDoor(c *gin.Context) {
	tellOf(s, c, s.opts.Worker.Restore.CopyDoor, "this work makes no copy: it is over, or of another kind")
}

// reportEnabled takes a client's word on the services that it has started there.
func (s *Server) reportEnabled(c *gin.Context) { heard(s, c, s.opts.Worker.Restore.ReportEnabled) }

// report tells what is to be known of a restore.
func (s *Server) report(c *gin.Context) {
	tellOf(s, c, s.opts.Worker.Restore.Report,
		"only a restore has a report; \"plumlatch work show\" has the steps of other work")
}

// tellOf answers with something of a piece of work, or with why that has none.
func tellOf[T any](s *Server, c *gin.Context, f func(context.Context, store.Work) (T, error), not string) {
	w, ok := s.work(c)
	if !ok {
		return
	}
	out, err := f(c.Request.Context(), w)
	if errors.Is(err, store.ErrWorkState) {
		conflict.answer(c, wire.Problem{Detail: not})
		return
	}
	s.answer(c, out, err)
}

// heard takes somebody's word on a piece of work that waits for it.
func heard[T any](s *Server, c *gin.Context, f func(context.Context, store.Actor, store.Work, T) error) {
	var said T
	if !read(c, &said) {
		return
	}
	w, ok := s.work(c)
	if !ok {
		return
	}
	s.told(c, w, f(c.Request.Context(), actor(c), w, said))
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
	if err := s.opts.Worker.Restore.ChangeChecks(c.Request.Context(), actor(c), i, r); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// rescueTerms shows what a rescue instance is opened with.
func (s *Server) rescueTerms(c *gin.Context) {
	c.JSON(http.StatusOK, s.opts.Worker.Restore.RescueTerms())
}

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
	if err := s.opts.Worker.Restore.SetRescue(c.Request.Context(), actor(c), i, r); err != nil {
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

// permitByHand asks the guard for the permit to take lines out again by hand.
func (s *Server) permitByHand(c *gin.Context) {
	var r wire.PermitRequest
	if !readUpTo(c, maxAdoption, &r) {
		return
	}
	w, ok := s.work(c)
	if !ok {
		return
	}
	out, err := s.opts.Worker.Restore.PermitByHand(c.Request.Context(), w, r)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, out)
}

// planRehearsal tells what a rehearsal would do, take and cost.
func (s *Server) planRehearsal(c *gin.Context) {
	var r wire.Rehearse
	if !read(c, &r) {
		return
	}
	i, ok := s.instance(c)
	if !ok {
		return
	}
	p, err := s.opts.Worker.Restore.PlanRehearsal(c.Request.Context(), i, r.Route)
	s.answer(c, p, err)
}

// rehearse begins to carry a way back in out on a copy.
func (s *Server) rehearse(c *gin.Context) {
	begins(s, c, func(name store.Once, i store.Instance, r wire.Rehearse) (store.Work, error) {
		// Whoever has a copy of its disk in hand could become root there.
		if err := s.opts.Worker.Lifecycle.MayEnter(c.Request.Context(), operator(c).Name, operator(c).Role, i); err != nil {
			return store.Work{}, err
		}
		return s.opts.Worker.Restore.Rehearse(c.Request.Context(), actor(c), name, i, r)
	})
}

// rehearsals lists what the last ones of an instance came to.
func (s *Server) rehearsals(c *gin.Context) {
	i, ok := s.instance(c)
	if !ok {
		return
	}
	all, err := s.opts.Worker.Restore.Rehearsals(c.Request.Context(), i)
	s.answer(c, wire.List[wire.Rehearsed]{Items: all}, err)
}
