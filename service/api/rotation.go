package api

import (
	"context"
	"errors"
	"net/http"

	"github.com/gin-gonic/gin"

	"plumlatch/core/keypair"
	"plumlatch/core/wire"
	"plumlatch/service/store"
)

// rotate begins to put a new key in the place of an old one on one instance.
func (s *Server) rotate(c *gin.Context) {
	begins(s, c, func(name store.Once, i store.Instance, r wire.Rotate) (store.Work, error) {
		return s.opts.Worker.Accesses.Rotate(c.Request.Context(), actor(c), name, i, r)
	})
}

// rotationPlan tells what that would do.
func (s *Server) rotationPlan(c *gin.Context) {
	var r wire.Rotate
	if !read(c, &r) {
		return
	}
	i, ok := s.instance(c)
	if !ok {
		return
	}
	var p wire.RotationPlan
	var err error
	if r.New == "" {
		p, err = s.opts.Worker.Accesses.PlanUnmade(c.Request.Context(), i, r)
	} else {
		p, _, err = s.opts.Worker.Accesses.PlanRotation(c.Request.Context(), i, r)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, p)
}

// reportNewLogin takes what a client says of a login with the new key. With the
// key's own signature it counts; without one it is a word.
func (s *Server) reportNewLogin(c *gin.Context) {
	var r wire.LoginReport
	if !read(c, &r) {
		return
	}
	w, ok := s.work(c)
	if !ok {
		return
	}
	k, err := s.opts.Store.KeyByFingerprint(c.Request.Context(), r.Fingerprint)
	if err != nil {
		field(c, "fingerprint", errors.New("no key of this fingerprint is recorded"))
		return
	}
	if r.Signature != "" {
		ch, ok := s.signed(c, k, r.Nonce, r.Signature)
		if !ok {
			return
		}
		if ch.WorkID != w.ID || ch.InstanceID != w.InstanceID {
			field(c, "nonce", errOtherChallenge)
			return
		}
		if err := s.opts.Store.KeyShown(c.Request.Context(), actor(c), k); err != nil {
			s.fail(c, err)
			return
		}
	}
	s.told(c, w, s.opts.Worker.Accesses.ReportNewLogin(c.Request.Context(), actor(c), w, k, r.Signature != ""))
}

// addAccess begins to let a key open an instance besides those that do.
func (s *Server) addAccess(c *gin.Context) {
	begins(s, c, func(name store.Once, i store.Instance, r wire.AccessAdd) (store.Work, error) {
		return s.opts.Worker.Accesses.AddAccess(c.Request.Context(), actor(c), name, i, r)
	})
}

// removeAccess begins to withdraw a key from an instance.
func (s *Server) removeAccess(c *gin.Context) {
	begins(s, c, func(name store.Once, i store.Instance, r wire.AccessRemove) (store.Work, error) {
		return s.opts.Worker.Accesses.RemoveAccess(c.Request.Context(), actor(c), name, i, r)
	})
}

// extendAccess begins to give an access another end.
func (s *Server) extendAccess(c *gin.Context) {
	begins(s, c, func(name store.Once, i store.Instance, r wire.AccessExtend) (store.Work, error) {
		return s.opts.Worker.Accesses.ExtendAccess(c.Request.Context(), actor(c), name, i, r)
	})
}

// planFleet tells which instances a rotation of many would take, in which waves.
func (s *Server) planFleet(c *gin.Context) {
	var r wire.Fleet
	if !read(c, &r) {
		return
	}
	p, err := s.opts.Worker.Fleet.PlanFleet(c.Request.Context(), r)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, p)
}

// rotateMany begins a rotation of many.
func (s *Server) rotateMany(c *gin.Context) {
	var r wire.Fleet
	if !read(c, &r) {
		return
	}
	name, ok := once(c)
	if !ok {
		return
	}
	w, err := s.opts.Worker.Fleet.RotateMany(c.Request.Context(), actor(c), name, r)
	s.begun(c, w, err)
}

// fleet shows the members of a rotation of many, and how far each is.
func (s *Server) fleet(c *gin.Context) {
	w, ok := s.work(c)
	if !ok {
		return
	}
	p, err := s.opts.Worker.Fleet.Fleet(c.Request.Context(), w)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, p)
}

func (s *Server) pauseFleet(c *gin.Context) {
	s.askWork(c, s.opts.Worker.Fleet.PauseFleet, "only a rotation of many that is at hand can be paused")
}

func (s *Server) goOnFleet(c *gin.Context) {
	s.askWork(c, func(ctx context.Context, by store.Actor, w store.Work) error {
		if w.Kind == "restore-kept" {
			return s.opts.Worker.Restore.GoOnKept(ctx, by, w)
		}
		return s.opts.Worker.Fleet.GoOnFleet(ctx, by, w)
	}, "only work on many that is at hand can go on, and work that keeps an old machine")
}

// planMany tells which instances a change of access would take.
func (s *Server) planMany(c *gin.Context) {
	var r wire.AccessMany
	if !read(c, &r) {
		return
	}
	p, err := s.opts.Worker.Fleet.PlanMany(c.Request.Context(), actor(c), r)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, p)
}

// changeMany begins a change of access on many instances.
func (s *Server) changeMany(c *gin.Context) {
	var r wire.AccessMany
	if !read(c, &r) {
		return
	}
	name, ok := once(c)
	if !ok {
		return
	}
	w, err := s.opts.Worker.Fleet.ChangeMany(c.Request.Context(), actor(c), name, r)
	s.begun(c, w, err)
}

const waitsForNoWord = "the work waits for no word: only work on many instances does, and the first way into one that came from the " +
	"cloud's list, before anything begins"

// word tells what a piece of work waits for, and the text to sign.
func (s *Server) word(c *gin.Context) {
	w, ok := s.work(c)
	if !ok {
		return
	}
	word, err := s.opts.Worker.Door.Word(c.Request.Context(), w)
	if errors.Is(err, store.ErrWorkState) {
		conflict.detail(c, waitsForNoWord)
		return
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, word)
}

// giveWord takes an operator's word for a piece of work.
func (s *Server) giveWord(c *gin.Context) {
	var r wire.GiveWord
	if !read(c, &r) {
		return
	}
	if keypair.LooksPrivate([]byte(r.Signature)) {
		privateKey.answer(c, wire.Problem{Field: "signature", Detail: privateDetail})
		return
	}
	s.askWork(c, func(ctx context.Context, by store.Actor, w store.Work) error {
		return s.opts.Worker.Door.GiveWord(ctx, by, operator(c).ID, w, r.Signature)
	}, waitsForNoWord)
}

// rotateSteward begins to replace the service's own key on an instance.
func (s *Server) rotateSteward(c *gin.Context) {
	begins(s, c, func(name store.Once, i store.Instance, _ struct{}) (store.Work, error) {
		return s.opts.Worker.Accesses.RotateSteward(c.Request.Context(), actor(c), name, i)
	})
}
