package api

import (
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"plumlatch/core/names"
	"plumlatch/core/secrets"
	"plumlatch/core/wire"
	"plumlatch/service/store"
)

// manyNames is as many names as a wrong one is compared with.
const manyNames = 20_000

// noInstance says that there is no instance of a name, and which are near it.
func (s *Server) noInstance(c *gin.Context, name string) {
	p := wire.Problem{Field: "instance",
		Detail: "there is no instance of this name; \"plumlatch instance list\" shows what there is"}
	if all, err := s.opts.Store.InstanceNames(c.Request.Context(), manyNames); err == nil {
		if near := names.Near(name, all, 3); len(near) > 0 {
			p.Detail = "there is no instance of this name; near it: " + strings.Join(near, ", ")
		}
	}
	notFound.answer(c, p)
}

// foreign answers with what an instance or a cloud has just said. Private keys in it
// are blanked: they go no further than they have come.
func foreign[T any](c *gin.Context, out T) {
	if at := secrets.BlankAll(&out); len(at) > 0 {
		c.Header("Plumlatch-Blanked", strconv.Itoa(len(at)))
	}
	c.JSON(http.StatusOK, out)
}

// begun answers with the work that a request began.
func (s *Server) begun(c *gin.Context, w store.Work, err error) {
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusAccepted, s.workOut(w))
}

// why looks at an instance's door from the service.
func (s *Server) why(c *gin.Context) {
	var r wire.WhyRequest
	if !read(c, &r) {
		return
	}
	i, ok := s.withSSH(c)
	if !ok {
		return
	}
	out, err := s.opts.Worker.Survey.Why(c.Request.Context(), i, r)
	if err != nil {
		s.fail(c, err)
		return
	}
	foreign(c, out)
}

// refresh takes down what the cloud says of an instance now, or where an
// adopted one has gone.
func (s *Server) refresh(c *gin.Context) {
	var r wire.Refresh
	if !read(c, &r) {
		return
	}
	i, ok := s.instance(c)
	if !ok {
		return
	}
	var out wire.Refreshed
	var err error
	if r.Address != "" || r.Port != 0 {
		out, err = s.opts.Worker.Network.Readdress(c.Request.Context(), actor(c), i, r)
	} else {
		out, err = s.opts.Worker.Network.Refresh(c.Request.Context(), actor(c), i)
	}
	if err == nil {
		i, err = s.opts.Store.InstanceByID(c.Request.Context(), i.ID)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	out.Instance = showInstance(i)
	c.JSON(http.StatusOK, out)
}

func (s *Server) listRules(c *gin.Context) {
	i, ok := s.instance(c)
	if !ok {
		return
	}
	out, err := s.opts.Worker.Network.Rules(c.Request.Context(), i)
	if err != nil {
		s.fail(c, err)
		return
	}
	foreign(c, out)
}

// begins reads a request, finds its instance, and answers with the work that begin begins.
func begins[T any](s *Server, c *gin.Context, begin func(store.Once, store.Instance, T) (store.Work, error)) {
	var r T
	if !read(c, &r) {
		return
	}
	name, ok := once(c)
	if !ok {
		return
	}
	i, ok := s.instance(c)
	if !ok {
		return
	}
	w, err := begin(name, i, r)
	s.begun(c, w, err)
}

func (s *Server) admit(c *gin.Context) {
	begins(s, c, func(name store.Once, i store.Instance, r wire.Admit) (store.Work, error) {
		return s.opts.Worker.Network.Admit(c.Request.Context(), actor(c), name, i, r)
	})
}

func (s *Server) unadmit(c *gin.Context) {
	begins(s, c, func(name store.Once, i store.Instance, r wire.Unadmit) (store.Work, error) {
		return s.opts.Worker.Network.Unadmit(c.Request.Context(), actor(c), name, i, r.From, r.Ports, r.CutOff)
	})
}

// hostKey sets what is recorded beside what answers.
func (s *Server) hostKey(c *gin.Context) {
	i, ok := s.withSSH(c)
	if !ok {
		return
	}
	out, _, err := s.opts.Worker.Network.HostKeyState(c.Request.Context(), i)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) acceptHostKey(c *gin.Context) {
	var r wire.AcceptHostKey
	if !read(c, &r) {
		return
	}
	i, ok := s.withSSH(c)
	if !ok {
		return
	}
	out, err := s.opts.Worker.Network.AcceptHostKey(c.Request.Context(), actor(c), i, r)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, out)
}

// maxBootLog is as much of the boot output as is passed on: the end of it.
const maxBootLog = 1 << 20

func (s *Server) bootLog(c *gin.Context) {
	i, ok := s.instance(c)
	if !ok {
		return
	}
	if i.Adopted || i.CloudID == "" {
		conflict.detail(c, "no cloud of ours is behind it, so its boot output is not seen from here")
		return
	}
	text, err := s.opts.Worker.Door.CloudOf(i).BootOutput(c.Request.Context(), i.CloudID)
	if err != nil {
		s.fail(c, err)
		return
	}
	text, _ = secrets.Blank(text) // an instance prints what it likes
	if len(text) > maxBootLog {
		text = "(the beginning is left out)\n" + text[len(text)-maxBootLog:]
	}
	c.JSON(http.StatusOK, wire.BootLog{Instance: i.Name, Text: text, At: time.Now().UTC()})
}

func (s *Server) listStatic(c *gin.Context) {
	rows, err := s.opts.Worker.Network.StaticAddresses(c.Request.Context(), c.Query("region"))
	if err != nil {
		s.fail(c, err)
		return
	}
	answerList(c, rows, "", func(a wire.StaticAddress) wire.StaticAddress { return a })
}

func (s *Server) reserve(c *gin.Context) {
	var r wire.NewStaticAddress
	if !read(c, &r) {
		return
	}
	name, ok := once(c)
	if !ok {
		return
	}
	w, err := s.opts.Worker.Network.Reserve(c.Request.Context(), actor(c), name, r)
	s.begun(c, w, err)
}

func (s *Server) moveAddress(c *gin.Context) {
	var r wire.MoveAddress
	if !read(c, &r) {
		return
	}
	name, ok := once(c)
	if !ok {
		return
	}
	var to store.Instance
	if r.Instance != "" {
		var err error
		if to, err = s.opts.Store.InstanceByName(c.Request.Context(), r.Instance); err != nil {
			s.noInstance(c, r.Instance)
			return
		}
	}
	w, err := s.opts.Worker.Network.MoveAddress(c.Request.Context(), actor(c), name, c.Param("name"), to)
	s.begun(c, w, err)
}

func (s *Server) releaseAddress(c *gin.Context) {
	name, ok := once(c)
	if !ok {
		return
	}
	w, err := s.opts.Worker.Network.Release(c.Request.Context(), actor(c), name, c.Param("name"))
	s.begun(c, w, err)
}
