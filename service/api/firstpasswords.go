package api

import (
	"errors"
	"net/http"

	"github.com/gin-gonic/gin"

	"plumlatch/core/firstpassword"
	"plumlatch/core/wire"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
)

// withSSH is instance for what needs an SSH server there.
func (s *Server) withSSH(c *gin.Context) (store.Instance, bool) {
	i, ok := s.instance(c)
	if ok && i.Desktop {
		field(c, "instance", errors.New(door.NoSSH(i)))
		return i, false
	}
	return i, ok
}

func showFirstPassword(p store.FirstPassword) *wire.FirstPassword {
	return &wire.FirstPassword{Key: p.Key, Fingerprint: p.Fingerprint, HandedAt: p.HandedAt, HandedTo: p.HandedTo, ChangedAt: p.ChangedAt,
		ChangedBy: p.ChangedBy}
}

// withPassword is instance for one whose image gives a first password.
func (s *Server) withPassword(c *gin.Context) (i store.Instance, p store.FirstPassword, ok bool) {
	if i, ok = s.instance(c); !ok {
		return i, p, false
	}
	p, err := s.opts.Store.FirstPasswordOf(c.Request.Context(), i.ID)
	if errors.Is(err, store.ErrNotFound) {
		field(c, "instance", errors.New(i.Name+" gives no first password: people come in by SSH (plumlatch open "+i.Name+")"))
		return i, p, false
	}
	if err != nil {
		s.fail(c, err)
	}
	return i, p, err == nil
}

// handPassword hands over the first password of an instance as it is encrypted. The service cannot read it, and keeps nothing of it.
func (s *Server) handPassword(c *gin.Context) {
	i, p, ok := s.withPassword(c)
	if !ok {
		return
	}
	text, err := s.opts.Worker.Door.CloudOf(i).FirstPassword(c.Request.Context(), i.CloudID)
	if errors.Is(err, cloud.ErrNotFound) {
		conflict.answer(c, wire.Problem{Detail: i.Name + " has not told its first password yet: it takes some minutes after its first boot. " +
			"Ask again"})
		return
	}
	if err == nil {
		if _, bad := firstpassword.CipherText(text); bad != nil {
			conflict.answer(c, wire.Problem{Detail: "what the cloud shows as the first password of " + i.Name + " is no cipher text: nothing " +
				"is handed on. Launch it anew, or come in some other way, and say that it was changed (plumlatch instance password " + i.Name + " -changed)"})
			return
		}
		err = s.opts.Store.PasswordHanded(c.Request.Context(), actor(c), i)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, wire.SealedPassword{Instance: i.Name, LoginUser: i.LoginUser, Address: i.Address, Port: i.Port, Key: p.Key,
		Fingerprint: p.Fingerprint, CipherText: text, ChangedAt: p.ChangedAt})
}

// passwordChanged records that it was changed: the launch key no longer matters there.
func (s *Server) passwordChanged(c *gin.Context) {
	i, _, ok := s.withPassword(c)
	if !ok {
		return
	}
	err := s.opts.Store.PasswordChanged(c.Request.Context(), actor(c), i)
	if err != nil {
		s.fail(c, err)
		return
	}
	p, err := s.opts.Store.FirstPasswordOf(c.Request.Context(), i.ID)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, showFirstPassword(p))
}
