package api

import (
	"errors"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"plumlatch/core/agentcalls"
	"plumlatch/core/keypair"
	"plumlatch/core/wire"
	"plumlatch/service/agents"
	"plumlatch/service/store"
)

// agent tells what is known of an instance's agent.
func (s *Server) agent(c *gin.Context) {
	i, ok := s.instance(c)
	if !ok {
		return
	}
	out := wire.Agent{Instance: i.Name, InstanceID: i.ID, Verbs: []string{}, Never: []string{}}
	a, connected, err := s.opts.Worker.Agents.Of(c.Request.Context(), i)
	switch {
	case err == nil:
		out.Enrolled, out.Fingerprint, out.EnrolledAt, out.EnrolledBy = true, a.Fingerprint, new(a.EnrolledAt.UTC()), a.EnrolledBy
		out.PublicKey = keypair.Public{Blob: a.PublicKey, Comment: "plumlatch agent"}.Line()
		out.Connected, out.ConnectedAt, out.SeenAt, out.Address = connected, a.ConnectedAt, a.SeenAt, a.Address
		out.Offered, out.LastUpgrade = s.opts.Worker.Agents.Offered(), a.LastUpgrade
		out.Version, out.Trust, out.Frozen, out.RefusedAt, out.RefusedFrom = a.Version, a.Trust, a.Frozen, a.RefusedAt, a.RefusedFrom
		out.Verbs, out.Never = append(out.Verbs, strings.Fields(a.Verbs)...), append(out.Never, strings.Fields(a.Never)...)
	case !errors.Is(err, store.ErrNotFound):
		s.fail(c, err)
		return
	}
	pin, err := s.opts.Worker.Agents.Pin(c.Request.Context())
	if err == nil {
		out.Service, out.Authority = s.opts.Worker.Agents.AddressFor(s.opts.Worker.Door.CloudOf(i)), pin
	} else if !errors.Is(err, agents.ErrOff) {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, out)
}

// agentFailed answers for an agent that did not do what was asked.
func (s *Server) agentFailed(c *gin.Context, i store.Instance, err error) {
	var no agents.Refused
	switch {
	case errors.As(err, &no):
		agentRefused.detail(c, "%s: %s (%s)", i.Name, no.Error(), no.Code)
	case errors.Is(err, agents.ErrNone):
		agentAway.detail(c, "%s has no agent: plumlatch instance agent install %s", i.Name, i.Name)
	case errors.Is(err, agents.ErrAway):
		agentAway.detail(c, "%s: %s", i.Name, err)
	case errors.Is(err, agents.ErrSecret):
		agentRefused.detail(c, "%s: %s", i.Name, err)
	case errors.Is(err, agents.ErrNoRelease):
		conflict.detail(c, "%s", err)
	case errors.Is(err, agents.ErrOff):
		conflict.detail(c, "%s", agents.ErrOff)
	case errors.Is(err, store.ErrAgentElsewhere):
		conflict.detail(c, "%s: %s", i.Name, err)
	case errors.Is(err, store.ErrNotFound):
		notFound.detail(c, "%s has no agent", i.Name)
	default:
		s.surveyFailed(c, err)
	}
}

// agentEnroll makes a key that of an instance's agent.
func (s *Server) agentEnroll(c *gin.Context) {
	var r wire.AgentKey
	if !read(c, &r) {
		return
	}
	i, ok := s.withSSH(c)
	if !ok {
		return
	}
	if err := s.opts.Worker.Agents.Enroll(c.Request.Context(), actor(c), i, r.PublicKey); err != nil {
		s.agentFailed(c, i, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// agentForget ends what an instance's agent is known by.
func (s *Server) agentForget(c *gin.Context) {
	i, ok := s.instance(c)
	if !ok {
		return
	}
	if err := s.opts.Worker.Agents.Forget(c.Request.Context(), actor(c), i); err != nil {
		s.agentFailed(c, i, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// bare is withSSH for a call that takes no fields.
func (s *Server) bare(c *gin.Context) (store.Instance, bool) {
	var none struct{}
	if c.Request.ContentLength != 0 && !read(c, &none) {
		return store.Instance{}, false
	}
	return s.withSSH(c)
}

// agentToken makes a token that enrolls the agent of an instance once.
func (s *Server) agentToken(c *gin.Context) {
	i, ok := s.bare(c)
	if !ok {
		return
	}
	token, err := s.opts.Worker.Agents.Token(c.Request.Context(), actor(c), i)
	if err != nil {
		s.agentFailed(c, i, err)
		return
	}
	pin, err := s.opts.Worker.Agents.Pin(c.Request.Context())
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, wire.AgentToken{Token: token, Service: s.opts.Worker.Agents.AddressFor(s.opts.Worker.Door.CloudOf(i)), Authority: pin})
}

// agentLook has an instance's agent look.
func (s *Server) agentLook(c *gin.Context) {
	i, ok := s.bare(c)
	if !ok {
		return
	}
	out, err := s.opts.Worker.Agents.Look(c.Request.Context(), actor(c), i)
	if err != nil {
		s.agentFailed(c, i, err)
		return
	}
	foreign(c, out)
}

// agentUpgrade has an instance's agent take the program that the service offers.
func (s *Server) agentUpgrade(c *gin.Context) {
	i, ok := s.bare(c)
	if !ok {
		return
	}
	now, err := s.opts.Store.Now(c.Request.Context())
	if err != nil {
		s.fail(c, err)
		return
	}
	u, err := s.opts.Worker.Agents.Upgrade(c.Request.Context(), actor(c), i)
	if err != nil {
		s.agentFailed(c, i, err)
		return
	}
	c.JSON(http.StatusOK, wire.AgentUpgrade{From: u.From, To: u.To, At: now.UTC()})
}

// agentCall passes a signed request on.
func (s *Server) agentCall(c *gin.Context) {
	var r wire.AgentCall
	if !read(c, &r) {
		return
	}
	i, ok := s.withSSH(c)
	if !ok {
		return
	}
	result, err := s.opts.Worker.Agents.Call(c.Request.Context(), actor(c), i, agentcalls.Call{Request: r.Request, Signature: r.Signature})
	if err != nil {
		s.agentFailed(c, i, err)
		return
	}
	foreign(c, wire.AgentDone{Result: string(result)})
}
