package api

import (
	"context"
	"net/http"

	"github.com/gin-gonic/gin"

	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/service/store"
)

// What is changed inside an instance, by an engineer's session.

// setLogins begins a change of the ways of logging in.
func (s *Server) setLogins(c *gin.Context) {
	begins(s, c, func(name store.Once, i store.Instance, r wire.SetLogins) (store.Work, error) {
		return s.opts.Worker.Inside.SetLogins(c.Request.Context(), actor(c), name, i, r)
	})
}

// loginsToChange tells the engineer's session what to change.
func (s *Server) loginsToChange(c *gin.Context) {
	tellOf(s, c, func(ctx context.Context, w store.Work) (wire.LoginsToChange, error) {
		return s.opts.Worker.Inside.LoginsToChange(ctx, w)
	}, "this work waits for no change of how people log in")
}

// loginsTold takes in what came of it.
func (s *Server) loginsTold(c *gin.Context) { heard(s, c, s.opts.Worker.Inside.LoginsTold) }

// maxSaid is how many lines of a way back are taken in.
const maxSaid = 50

// loginsSeen journals what a way back on an instance did, as a client read it there.
func (s *Server) loginsSeen(c *gin.Context) {
	var r wire.LoginsSeen
	if !read(c, &r) {
		return
	}
	i, ok := s.instance(c)
	if !ok {
		return
	}
	if len(r.Said) == 0 || len(r.Said) > maxSaid {
		invalidField.answer(c, wire.Problem{Field: "said", Detail: "give what it wrote, at most 50 lines"})
		return
	}
	for n, line := range r.Said {
		r.Said[n] = plaintext.Line(plaintext.Cut(line, 200))
	}
	if err := s.opts.Store.LoginsSeen(c.Request.Context(), actor(c), i, r.Said); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// setUser begins a change of an instance's users.
func (s *Server) setUser(c *gin.Context) {
	begins(s, c, func(name store.Once, i store.Instance, r wire.SetUser) (store.Work, error) {
		return s.opts.Worker.Inside.SetUser(c.Request.Context(), actor(c), name, i, r)
	})
}

// userToChange tells the engineer's session what to do.
func (s *Server) userToChange(c *gin.Context) {
	tellOf(s, c, func(ctx context.Context, w store.Work) (wire.UserToChange, error) {
		return s.opts.Worker.Inside.UserToChange(ctx, w)
	}, "this work waits for no change of a user")
}

// userTold takes in what came of it.
func (s *Server) userTold(c *gin.Context) { heard(s, c, s.opts.Worker.Inside.UserTold) }
