package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"plumlatch/core/access"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/wire"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/survey"
)

// stateOf is what a key is, the strongest first: exposed, lost, retired, in use.
func stateOf(state string, retired bool) string {
	if state == access.InUse && retired {
		return "retired"
	}
	return state
}

func showSighted(x store.Sighting) wire.Sighted {
	p := keypair.Public{Blob: x.Blob, Comment: x.Comment}
	out := wire.Sighted{Instance: x.Instance, Region: x.Region, LoginUser: x.LoginUser, Key: x.Key, Holder: x.Holder,
		State: stateOf(x.State, x.Retired), Kind: p.Kind(), Fingerprint: x.Fingerprint, Bitting: p.Bitting().String(),
		Comment: x.Comment, Limits: x.Limits, Ends: x.EndsAt, Recorded: x.Recorded, FirstBoots: x.FirstBoots,
		Before: x.Before, Since: x.FirstAt.UTC(), Seen: x.LastAt.UTC(), Gone: x.GoneAt, From: x.Vantage}
	var places []access.Place
	if json.Unmarshal([]byte(x.Places), &places) == nil && len(places) > 0 {
		out.File, out.Line, out.Options = places[0].File, places[0].Line, places[0].Options
	}
	return out
}

// opening answers what opens an instance.
func (s *Server) opening(c *gin.Context) {
	i, ok := s.instance(c)
	if !ok {
		return
	}
	ctx := c.Request.Context()
	out := wire.Opening{Instance: i.Name, Keys: []wire.Access{}, Unrecorded: []wire.Sighted{}, Doors: []wire.OtherDoor{}}
	rows, err := s.opts.Store.AccessesOf(ctx, i.ID)
	var seen []store.Sighting
	if err == nil {
		seen, err = s.opts.Store.SightingsOf(ctx, i.ID)
	}
	var d access.Door
	if err == nil {
		d, err = s.opts.Store.DoorOf(ctx, i.ID)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	keys := map[string]wire.Access{}
	for _, a := range rows {
		out.Keys = append(out.Keys, showAccess(a, keys))
	}
	log, err := s.opts.Store.LogOf(ctx, i.ID)
	if err == nil {
		err = s.used(ctx, out.Keys, rows, "")
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	out.LogRead = showLog(log)
	for _, x := range seen {
		if x.GoneAt == nil && !x.Recorded && !x.FirstBoots && x.Limits != access.Authority {
			out.Unrecorded = append(out.Unrecorded, showSighted(x))
		}
	}
	if i.Desktop {
		p, err := s.opts.Store.FirstPasswordOf(ctx, i.ID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			s.fail(c, err)
			return
		}
		out.Desktop, out.FirstPassword = true, showFirstPassword(p)
		foreign(c, out)
		return
	}
	o := d.Opening()
	for _, other := range o.Others {
		out.Doors = append(out.Doors, survey.ShowOther(other))
	}
	if sole, ok := o.Sole(); ok {
		out.Sole = sole.Key
	}
	out.Nobody, out.Besides, out.NotSeen, out.People = o.Nobody(), o.Besides(), o.NotSeen, o.Count()
	foreign(c, out)
}

// printOf reads a fingerprint of whatever form, and answers if it is of none. "" is the zero Print.
func printOf(c *gin.Context, name, text string) (p keypair.Print, ok bool) {
	if text == "" {
		return p, true
	}
	p, is, err := keypair.ParsePrint(text)
	if err == nil && !is {
		err = keypair.ErrPrint
	}
	if err != nil {
		field(c, name, err)
	}
	return p, err == nil
}

// byPrint finds the one key that a fingerprint of whatever form is of, recorded (k) or seen by surveys
// alone. sha256 is the print itself where nothing is known by it. Two keys under one form are an error.
func (s *Server) byPrint(ctx context.Context, p keypair.Print) (k store.Key, sha256 string, err error) {
	keys, _, err := s.opts.Store.Keys(ctx, store.KeyQuery{Print: p})
	if err != nil {
		return k, "", err
	}
	seen, err := s.opts.Store.SeenPrints(ctx, p)
	if err != nil {
		return k, "", err
	}
	var named, of []string
	for _, k := range keys {
		named, of = append(named, fmt.Sprintf("%s (%s)", k.Name, k.Fingerprint)), append(of, k.Fingerprint)
	}
	for _, fingerprint := range seen {
		if !slices.Contains(of, fingerprint) {
			named, of = append(named, fingerprint+", not recorded"), append(of, fingerprint)
		}
	}
	switch {
	case len(of) > 1:
		return k, "", door.FieldError{Field: "key", Problem: "it is of more than one key: " + strings.Join(named, ", ") +
			"; give one of these SHA256"}
	case len(of) == 0:
		return k, p.Text, nil
	case len(keys) == 1:
		k = keys[0]
	}
	return k, of[0], nil
}

// privatePrint keeps what an operator says is the fingerprint of a key's private half.
func (s *Server) privatePrint(c *gin.Context) {
	var r wire.PrivatePrint
	if !read(c, &r) {
		return
	}
	p, ok := printOf(c, "fingerprint", r.Fingerprint)
	if !ok {
		return
	}
	if p.Form != keypair.PrintSHA1 {
		field(c, "fingerprint", errors.New("give SHA1: and 40 hex digits: of the private half's PKCS#8 DER"))
		return
	}
	k, ok := s.key(c)
	if !ok {
		return
	}
	if err := s.opts.Store.SetPrivatePrint(c.Request.Context(), actor(c), k, p); err != nil {
		s.fail(c, err)
		return
	}
	s.showKey(c)
}

// opens answers what a key opens, by its name or by a fingerprint of whatever form.
func (s *Server) opens(c *gin.Context) {
	word := c.Query("key")
	ctx := c.Request.Context()
	out := wire.Opens{Access: []wire.Access{}, Found: []wire.Sighted{}, Trusted: []wire.Sighted{}, Gone: []wire.Sighted{}}
	var k store.Key
	var err error
	print, isPrint, wrong := keypair.ParsePrint(word)
	switch {
	case wrong != nil:
		field(c, "key", wrong)
		return
	case isPrint && !print.Bare:
		if k, out.Fingerprint, err = s.byPrint(ctx, print); err != nil {
			s.fail(c, err)
			return
		}
	case names.Check(word) == nil:
		if k, err = s.opts.Store.KeyByName(ctx, word); err != nil {
			if errors.Is(err, store.ErrNotFound) {
				s.noKey(c, word)
			} else {
				s.fail(c, err)
			}
			return
		}
	default:
		field(c, "key", fmt.Errorf("give the name of a key, or its fingerprint: %w", keypair.ErrPrint))
		return
	}
	var rows []store.Access
	if err == nil && k.ID != 0 {
		shown := showKey(k)
		out.Key, out.Fingerprint = &shown, k.Fingerprint
		rows, err = s.opts.Store.AccessesOfKey(ctx, k.ID)
		if err == nil {
			var passwords []store.FirstPassword
			passwords, err = s.opts.Store.FirstPasswordsOf(ctx, k.ID)
			for _, p := range passwords {
				out.Passwords = append(out.Passwords, p.Instance)
			}
		}
	}
	var seen []store.Sighting
	if err == nil {
		seen, err = s.opts.Store.SightingsOfKey(ctx, out.Fingerprint)
	}
	if err == nil {
		out.NeverLooked, err = s.opts.Store.NeverLooked(ctx)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	keys := map[string]wire.Access{}
	for _, a := range rows {
		out.Access = append(out.Access, showAccess(a, keys))
	}
	if err := s.used(ctx, out.Access, rows, out.Fingerprint); err != nil {
		s.fail(c, err)
		return
	}
	for _, x := range seen {
		switch shown := showSighted(x); {
		case x.GoneAt != nil:
			out.Gone = append(out.Gone, shown)
		case x.Limits == access.Authority:
			out.Trusted = append(out.Trusted, shown)
		case !x.Recorded && !x.FirstBoots:
			out.Found = append(out.Found, shown)
		}
	}
	c.JSON(http.StatusOK, out)
}

// listSightings lists what surveys saw in files of keys.
func (s *Server) listSightings(c *gin.Context) {
	p, _, _, ok := page(c, "instance")
	if !ok {
		return
	}
	rows, next, err := s.opts.Store.Sightings(c.Request.Context(), store.SightingQuery{Instance: c.Query("instance"),
		Region: c.Query("region"), Tag: c.Query("tag"), User: c.Query("user"), Key: c.Query("key"),
		Holder: c.Query("holder"), Fingerprint: c.Query("fingerprint"), There: c.Query("there") == "true",
		Unrecorded: c.Query("recorded") == "false", Page: p})
	if err != nil {
		s.fail(c, err)
		return
	}
	answerList(c, rows, next, showSighted)
}
