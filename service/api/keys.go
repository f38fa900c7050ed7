package api

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"plumlatch/core/access"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/service/store"
)

const maxText = 1000

// checkText checks a field of free text, and answers if it is not valid. A
// private key in whatever field goes no further.
func checkText(c *gin.Context, name, text string) bool {
	if keypair.LooksPrivate([]byte(text)) {
		privateKey.answer(c, wire.Problem{Field: name, Detail: privateDetail})
		return false
	}
	if len(text) > maxText || plaintext.HasControl(text) {
		field(c, name, fmt.Errorf("this is one line of at most %d bytes without control characters", maxText))
		return false
	}
	return true
}

func checkChoice(c *gin.Context, name, value string, choices ...string) bool {
	if slices.Contains(choices, value) {
		return true
	}
	invalidField.answer(c, wire.Problem{Field: name, Detail: "unknown " + name, Choices: choices})
	return false
}

// addKey records a public half.
func (s *Server) addKey(c *gin.Context) {
	var r wire.NewKey
	if !read(c, &r) {
		return
	}
	if keypair.LooksPrivate([]byte(r.PublicKey)) {
		privateKey.answer(c, wire.Problem{Field: "public_key", Detail: privateDetail})
		return
	}
	for _, f := range []struct{ name, text string }{{"note", r.Note}, {"kept_at", r.KeptAt}, {"holder", r.Holder}} {
		if !checkText(c, f.name, f.text) {
			return
		}
	}
	if keypair.LooksPrivate([]byte(r.Name)) {
		privateKey.answer(c, wire.Problem{Field: "name", Detail: privateDetail})
		return
	}
	if err := names.Check(r.Name); err != nil {
		s.fail(c, err)
		return
	}
	if !checkChoice(c, "passphrase", r.Passphrase, "", "yes", "no") {
		return
	}
	if r.Authority && (r.MadeHere || r.Elsewhere || r.Passphrase != "") {
		field(c, "authority", errors.New("a certificate authority is imported, and nothing else is said of its private half"))
		return
	}
	if r.MadeHere && r.Elsewhere {
		field(c, "made_elsewhere", errors.New("a key is made here or elsewhere, not both"))
		return
	}
	p, err := keypair.ReadPublic([]byte(r.PublicKey))
	if errors.Is(err, keypair.ErrTooLarge) {
		tooLarge.answer(c, wire.Problem{Field: "public_key", Detail: err.Error()})
		return
	}
	if err != nil {
		field(c, "public_key", err)
		return
	}
	origin := store.Imported
	if r.MadeHere {
		origin = store.MadeHere
	} else if r.Elsewhere {
		origin = store.MadeElsewhere
	}
	k, err := s.opts.Store.AddKey(c.Request.Context(), actor(c),
		store.NewKey{Name: r.Name, Note: r.Note, Origin: origin, KeptAt: r.KeptAt, Passphrase: r.Passphrase,
			Holder: r.Holder, Public: p, Authority: r.Authority})
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusCreated, showKey(k))
}

// noKey says that there is no key of a name, and which are near it.
func (s *Server) noKey(c *gin.Context, name string) {
	p := wire.Problem{Field: "key", Detail: "there is no key of this name; \"plumlatch key list\" shows what there is"}
	if all, err := s.opts.Store.KeyNames(c.Request.Context()); err == nil {
		if near := names.Near(name, all, 3); len(near) > 0 {
			p.Detail = "there is no key of this name; near it: " + strings.Join(near, ", ")
		}
	}
	notFound.answer(c, p)
}

// key finds the key that the path names, and answers if there is none.
func (s *Server) key(c *gin.Context) (store.Key, bool) {
	k, err := s.opts.Store.KeyByName(c.Request.Context(), c.Param("name"))
	if errors.Is(err, store.ErrNotFound) {
		s.noKey(c, c.Param("name"))
		return k, false
	}
	if err != nil {
		s.fail(c, err)
	}
	return k, err == nil
}

func (s *Server) showKey(c *gin.Context) {
	if k, ok := s.key(c); ok {
		c.JSON(http.StatusOK, showKey(k))
	}
}

func (s *Server) changeKey(c *gin.Context) {
	var r wire.KeyChange
	if !read(c, &r) {
		return
	}
	if r == (wire.KeyChange{}) {
		field(c, "name", errors.New("nothing is to be changed"))
		return
	}
	for _, f := range []struct {
		name string
		text *string
	}{{"note", r.Note}, {"kept_at", r.KeptAt}, {"holder", r.Holder}, {"comment", r.Comment}} {
		if f.text != nil && !checkText(c, f.name, *f.text) {
			return
		}
	}
	if r.Name != nil {
		if err := names.Check(*r.Name); err != nil {
			s.fail(c, err)
			return
		}
	}
	if r.Origin != nil && !checkChoice(c, "origin", *r.Origin, store.MadeHere, store.Imported, store.MadeElsewhere) ||
		r.Passphrase != nil && !checkChoice(c, "passphrase", *r.Passphrase, "yes", "no", "not known") {
		return
	}
	k, ok := s.key(c)
	if !ok {
		return
	}
	k, err := s.opts.Store.ChangeKey(c.Request.Context(), actor(c), k.Name, store.KeyChange(r))
	if err != nil {
		s.fail(c, err)
		return
	}
	out := showKey(k)
	if r.Holder != nil && (k.HolderSort == "" || k.HolderSort == "machine" || k.HolderSort == "job") {
		if out.SoleOf, err = s.soleOf(c, k); err != nil {
			s.fail(c, err)
			return
		}
	}
	c.JSON(http.StatusOK, out)
}

// soleOf are the instances that no other person's key is known to open. A mark
// that makes a key count for nobody's way in takes nothing from anybody by itself;
// that nobody else gets in is said with it.
func (s *Server) soleOf(c *gin.Context, k store.Key) (out []string, err error) {
	doors, err := s.opts.Store.DoorsOfKey(c.Request.Context(), k)
	if err != nil {
		return nil, err
	}
	_, none := access.Follows(doors, k.Fingerprint)
	for _, f := range none {
		out = append(out, f.Door.Name)
	}
	return out, nil
}

func (s *Server) retireKey(retire bool) gin.HandlerFunc {
	return func(c *gin.Context) {
		k, ok := s.key(c)
		if !ok {
			return
		}
		if err := s.opts.Store.RetireKey(c.Request.Context(), actor(c), k, retire); err != nil {
			s.fail(c, err)
			return
		}
		k, err := s.opts.Store.KeyByID(c.Request.Context(), k.ID)
		out := wire.Key{}
		if err == nil {
			k, err = s.opts.Store.KeyByName(c.Request.Context(), k.Name)
			out = showKey(k)
		}
		if err == nil && retire {
			out.SoleOf, err = s.soleOf(c, k)
		}
		if err != nil {
			s.fail(c, err)
			return
		}
		c.JSON(http.StatusOK, out)
	}
}

func (s *Server) forgetKey(c *gin.Context) {
	k, ok := s.key(c)
	if !ok {
		return
	}
	err := s.opts.Store.ForgetKey(c.Request.Context(), actor(c), k)
	if e, ok := errors.AsType[store.StillOpens](err); ok {
		conflict.detail(c, "%s", e.Error())
		return
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// challenge makes the text that shows, signed, that a private half exists: a
// nonce, this service, who asked and which key, so that it serves for nothing else.
func (s *Server) challenge(c *gin.Context) {
	var r wire.ChallengeRequest
	if c.Request.ContentLength != 0 && !read(c, &r) {
		return
	}
	k, ok := s.key(c)
	if !ok {
		return
	}
	named, ok := s.challenged(c, r)
	if !ok {
		return
	}
	b := make([]byte, 24)
	_, _ = rand.Read(b) // never fails
	nonce := hex.EncodeToString(b)
	scheme := "http"
	if s.opts.TLS {
		scheme = "https"
	}
	o := operator(c)
	named.Nonce = nonce
	named.Text = fmt.Sprintf("Plum Latch: show that a private key exists\nnonce %s\nservice %s://%s\noperator "+
		"%s\n%skey %s\n", nonce, scheme, c.Request.Host, o.Name, named.Text, k.Fingerprint)
	err := s.opts.Store.AddChallenge(c.Request.Context(), o.ID, k, named)
	if errors.Is(err, store.ErrNotFound) {
		s.noKey(c, k.Name)
		return
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusCreated, wire.Challenge{Nonce: nonce, Text: named.Text})
}

// challenged finds the work and the instance that a challenge is to name, and the
// lines of its text that do. It answers if there are none such.
func (s *Server) challenged(c *gin.Context, r wire.ChallengeRequest) (out store.Challenge, ok bool) {
	if r.Work != 0 {
		w, err := s.opts.Store.WorkByID(c.Request.Context(), r.Work)
		if err != nil {
			s.missing(c, "work", err)
			return out, false
		}
		out.WorkID, out.InstanceID = w.ID, w.InstanceID
		out.Text = fmt.Sprintf("work %d\n", w.ID)
	}
	if r.Instance != "" {
		i, err := s.opts.Store.InstanceByName(c.Request.Context(), r.Instance)
		if err != nil {
			s.noInstance(c, r.Instance)
			return out, false
		}
		if out.WorkID != 0 && out.InstanceID != i.ID {
			field(c, "instance", errors.New("the work is not on this instance"))
			return out, false
		}
		out.InstanceID = i.ID
		out.Text += fmt.Sprintf("instance %s %s\n", i.Name, i.Alias)
	}
	return out, true
}

// signed checks a signature over a challenge, which is used up by that. ok is
// false if it has answered.
func (s *Server) signed(c *gin.Context, k store.Key, nonce, signature string) (ch store.Challenge, ok bool) {
	ch, err := s.opts.Store.TakeChallenge(c.Request.Context(), operator(c).ID, k, nonce)
	if errors.Is(err, store.ErrChallenge) {
		field(c, "nonce", err)
		return ch, false
	}
	if err != nil {
		s.fail(c, err)
		return ch, false
	}
	if err := k.Public().Verify([]byte(signature), keypair.ProofNamespace, []byte(ch.Text)); err != nil {
		field(c, "signature", err)
		return ch, false
	}
	return ch, true
}

// errOtherChallenge says that a challenge was signed for something else.
var errOtherChallenge = errors.New("this challenge does not name what it is reported for: ask for one that does")

// prove takes the signed challenge. The challenge is used up whatever comes of it.
func (s *Server) prove(c *gin.Context) {
	var r wire.Proof
	if !read(c, &r) {
		return
	}
	if keypair.LooksPrivate([]byte(r.Signature)) {
		privateKey.answer(c, wire.Problem{Field: "signature", Detail: privateDetail})
		return
	}
	k, ok := s.key(c)
	if !ok {
		return
	}
	if _, ok := s.signed(c, k, r.Nonce, r.Signature); !ok {
		return
	}
	if err := s.opts.Store.KeyShown(c.Request.Context(), actor(c), k); err != nil {
		s.fail(c, err)
		return
	}
	s.showKey(c)
}

func (s *Server) listHolders(c *gin.Context) {
	rows, err := s.opts.Store.Holders(c.Request.Context())
	if err != nil {
		s.fail(c, err)
		return
	}
	answerList(c, rows, "", func(h store.Holder) wire.Holder {
		return wire.Holder{Name: h.Name, Sort: h.Sort, CreatedAt: h.CreatedAt, Keys: h.Keys, Members: h.Members,
			LeftAt: h.LeftAt, LeftBy: h.LeftBy}
	})
}

func (s *Server) addHolder(c *gin.Context) {
	var r wire.Holder
	if !read(c, &r) {
		return
	}
	if err := names.Check(r.Name); err != nil {
		s.fail(c, err)
		return
	}
	if !checkChoice(c, "sort", r.Sort, store.HolderSorts...) {
		return
	}
	if err := s.opts.Store.AddHolder(c.Request.Context(), actor(c), r.Name, r.Sort); err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusCreated, wire.Holder{Name: r.Name, Sort: r.Sort})
}
