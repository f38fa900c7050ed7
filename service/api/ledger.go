package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"plumlatch/core/access"
	"plumlatch/core/keypair"
	"plumlatch/core/secrets"
	"plumlatch/core/wire"
	"plumlatch/service/door"
	"plumlatch/service/lifecycle"
	"plumlatch/service/network"
	"plumlatch/service/store"
)

func cuts(p keypair.Public) []int {
	var out []int
	for _, d := range p.Bitting() {
		out = append(out, int(d))
	}
	return out
}

func showKey(k store.Key) wire.Key {
	p := k.Public()
	out := wire.Key{Name: k.Name, Kind: k.Kind, Fingerprint: k.Fingerprint, FingerprintMD5: p.FingerprintMD5(),
		Bitting: p.Bitting().String(), Cuts: cuts(p),
		Comment: k.Comment, Note: k.Note, Origin: k.Origin, PublicKey: p.Line(), CreatedAt: k.CreatedAt.UTC(),
		CreatedBy: k.CreatedBy, Reach: k.Reach, Found: k.Found, Authority: k.Authority,
		FingerprintDER: p.FingerprintDER(), FingerprintPrivate: keypair.PrintOfHex(keypair.PrintSHA1, k.PrivateSHA1),
		FingerprintPrivateBy: k.PrivateSHA1By, FingerprintPrivateAt: k.PrivateSHA1At,
		Holder: k.Holder, HolderSort: k.HolderSort, KeptAt: k.KeptAt, Passphrase: k.Passphrase,
		PassphraseAt: k.PassphraseAt, Retired: k.RetiredAt != nil,
		ShownAt: k.ShownAt, ShownBy: k.ShownBy, EvidenceAt: k.EvidenceAt,
		State: k.State, StateAt: k.StateAt, StateBy: k.StateBy, StateReason: k.StateReason}
	if k.Weakness != "" { // computed once, when it was recorded
		for _, w := range p.Weaknesses() {
			out.Weaknesses = append(out.Weaknesses,
				wire.Weakness{Name: w.Name, Severity: string(w.Severity), Sentence: w.Sentence})
		}
	}
	return out
}

func (s *Server) listKeys(c *gin.Context) {
	p, sort, desc, ok := page(c, "name", "created", "reach")
	if !ok {
		return
	}
	older, ok := days(c, "older_than_days")
	if !ok {
		return
	}
	print, ok := printOf(c, "fingerprint", c.Query("fingerprint"))
	if !ok {
		return
	}
	rows, next, err := s.opts.Store.Keys(c.Request.Context(),
		store.KeyQuery{Text: c.Query("q"), Kind: c.Query("kind"), Print: print,
			Holder: c.Query("holder"),
			Origin: c.Query("origin"), Weakness: c.Query("weakness"), State: c.Query("state"), OlderThan: older,
			Sort: sort, Descending: desc, Page: p})
	if err != nil {
		s.fail(c, err)
		return
	}
	answerList(c, rows, next, showKey)
}

// days reads a number of days of a list request; 0 if it is not given.
func days(c *gin.Context, name string) (n int, ok bool) {
	v := c.Query(name)
	if v == "" {
		return 0, true
	}
	n, err := strconv.Atoi(v)
	if err != nil || n < 0 || n > 36500 {
		field(c, name, errors.New("give a number of days"))
		return 0, false
	}
	return n, true
}

func showInstance(i store.Instance) wire.Instance {
	state := i.State
	if i.Phase == store.Failed {
		state = "failed"
	}
	return wire.Instance{Name: i.Name, State: state, Phase: string(i.Phase), Progress: i.Progress, Trouble: i.Trouble,
		Region: i.Region, Image: i.Image, Size: i.Size,
		Cloud: i.Cloud, CloudID: i.CloudID, Address: i.Address, Port: i.Port, LoginUser: i.LoginUser, Alias: i.Alias,
		Keys: i.Keys, CreatedAt: i.CreatedAt.UTC(), CreatedBy: i.CreatedBy,
		Zone: i.Zone, DiskGB: i.DiskGB, Tags: i.Tags, Adopted: i.Adopted, Found: i.Found, Desktop: i.Desktop, Work: i.WorkID,
		KeysFiles: i.KeysFiles, Privilege: i.Privilege, Via: showVia(i.Via),
		ProbeAllowed: i.ProbeAllowed, VanishedAt: i.VanishedAt, KeyLabel: i.KeyLabel, Checks: i.Checks,
		Rescue: i.Rescue}
}

func showVia(v *store.Via) *wire.Hop {
	if v == nil {
		return nil
	}
	h := &wire.Hop{Address: v.Address, Port: v.Port, LoginUser: v.LoginUser, HostKeys: []string{}}
	for _, blob := range v.HostKeys {
		h.HostKeys = append(h.HostKeys, keypair.Public{Blob: blob}.Line())
	}
	return h
}

// instanceAsked is the ID of the instance that a list is asked of, 0 for none; not ok if that was answered.
func (s *Server) instanceAsked(c *gin.Context) (id int64, ok bool) {
	name := c.Query("instance")
	if name == "" {
		return 0, true
	}
	i, err := s.opts.Store.InstanceByName(c.Request.Context(), name)
	switch {
	case errors.Is(err, store.ErrNotFound):
		s.noInstance(c, name)
	case err != nil:
		s.fail(c, err)
	}
	return i.ID, err == nil
}

func (s *Server) listInstances(c *gin.Context) {
	p, sort, desc, ok := page(c, "name", "created", "region")
	if !ok {
		return
	}
	rows, next, err := s.opts.Store.Instances(c.Request.Context(),
		store.InstanceQuery{Text: c.Query("q"), Region: c.Query("region"), Image: c.Query("image"),
			State: c.Query("state"), Key: c.Query("key"), Sort: sort, Descending: desc, Page: p})
	if err != nil {
		s.fail(c, err)
		return
	}
	if c.Query("host_keys") != "true" {
		answerList(c, rows, next, showInstance)
		return
	}
	keys, err := s.opts.Store.HostKeysOf(c.Request.Context(), rows)
	if err != nil {
		s.fail(c, err)
		return
	}
	answerList(c, rows, next, func(i store.Instance) wire.Instance {
		out := showInstance(i)
		for _, k := range keys[i.ID] {
			out.HostKeys = append(out.HostKeys, network.ShowHostKey(k))
		}
		return out
	})
}

// instance finds the instance that the path names, and answers if there is none.
func (s *Server) instance(c *gin.Context) (store.Instance, bool) {
	i, err := s.opts.Store.InstanceByName(c.Request.Context(), c.Param("name"))
	if errors.Is(err, store.ErrNotFound) {
		s.noInstance(c, c.Param("name"))
		return i, false
	}
	if err != nil {
		s.fail(c, err)
		return i, false
	}
	return i, true
}

func (s *Server) showInstance(c *gin.Context) {
	i, ok := s.instance(c)
	if !ok {
		return
	}
	keys, err := s.opts.Store.HostKeys(c.Request.Context(), i.ID)
	if err != nil {
		s.fail(c, err)
		return
	}
	addresses, err := s.opts.Store.Addresses(c.Request.Context(), i.ID)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := showInstance(i)
	out.Lends = s.opts.Worker.Restore.Lends(i)
	for _, a := range addresses {
		out.Addresses = append(out.Addresses,
			wire.Address{Address: a.Address, Since: a.Since.UTC(), Until: a.Until, Static: a.Static})
	}
	if i.Desktop {
		p, err := s.opts.Store.FirstPasswordOf(c.Request.Context(), i.ID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			s.fail(c, err)
			return
		}
		out.FirstPassword = showFirstPassword(p)
	}
	kept, err := s.opts.Store.KeptOf(c.Request.Context(), i.ID)
	if err != nil {
		s.fail(c, err)
		return
	}
	for _, k := range kept {
		out.OldMachines = append(out.OldMachines, wire.OldMachine{CloudID: k.CloudID, Work: k.Work, Until: k.Until.UTC(),
			WeekPrice: k.WeekPrice, Currency: k.Currency})
	}
	out.HostKeys, out.UserData = []wire.HostKey{}, i.UserData
	for _, k := range keys {
		out.HostKeys = append(out.HostKeys, network.ShowHostKey(k))
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) launch(c *gin.Context) {
	var r wire.Launch
	if !read(c, &r) {
		return
	}
	if keypair.LooksPrivate([]byte(r.UserData)) {
		privateKey.answer(c, wire.Problem{Field: "user_data",
			Detail: "there is a private key in the user data, which the ledger and the cloud would keep. Nothing " +
				"was stored or logged; as it has travelled over a network, see whether it is still a secret"})
		return
	}
	request := lifecycle.LaunchRequest{Name: r.Name, Region: r.Region, Zone: r.Zone, Image: r.Image, Size: r.Size,
		DiskGB: r.DiskGB, Tags: r.Tags, UserData: r.UserData, Keys: r.Keys, NoKey: r.NoKey,
		Static: r.StaticAddress, CloudKey: r.CloudKey, AgentVerbs: r.AgentVerbs}
	if r.Plan {
		p, err := s.opts.Worker.Lifecycle.Plan(c.Request.Context(), request)
		if err != nil {
			s.fail(c, err)
			return
		}
		c.JSON(http.StatusOK, wire.LaunchPlan{UserData: p.UserData, LoginUser: p.Image.LoginUser, Warnings: p.Warnings,
			Price: p.Price, Seconds: p.Takes.Seconds()})
		return
	}
	name, ok := once(c)
	if !ok {
		return
	}
	i, warnings, err := s.opts.Worker.Lifecycle.Launch(c.Request.Context(), actor(c), name, request)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := showInstance(i)
	out.Warnings = warnings
	c.JSON(http.StatusAccepted, out)
}

func (s *Server) change(phase store.Phase) gin.HandlerFunc {
	return func(c *gin.Context) {
		name, ok := once(c)
		if !ok {
			return
		}
		i, ok := s.instance(c)
		if !ok {
			return
		}
		i, err := s.opts.Worker.Lifecycle.Change(c.Request.Context(), actor(c), name, i, phase,
			phase == store.Removing && c.Query("forget") == "true")
		if fe, ok := errors.AsType[door.FieldError](err); ok {
			conflict.answer(c, wire.Problem{Detail: fe.Problem})
			return
		}
		if err != nil {
			s.fail(c, err)
			return
		}
		c.JSON(http.StatusAccepted, showInstance(i))
	}
}

// showAccess shows an access, with what was computed of keys already: a list is
// often about one.
func showAccess(a store.Access, keys map[string]wire.Access) wire.Access {
	out, ok := keys[string(a.Blob)]
	if !ok {
		p := keypair.Public{Blob: a.Blob, Comment: a.Comment}
		out = wire.Access{Kind: p.Kind(), Fingerprint: p.Fingerprint(), Bitting: p.Bitting().String(), Cuts: cuts(p),
			PublicKey: p.Line()}
		keys[string(a.Blob)] = out
	}
	out.ID, out.Instance, out.Region, out.LoginUser, out.Key, out.Steward, out.Holder, out.HolderSort = a.ID,
		a.Instance, a.Region, a.LoginUser, a.Key, a.Steward, a.Holder, a.HolderSort
	out.KeyState, out.Until, out.Reason = stateOf(a.KeyState, a.KeyRetired), a.Until, a.TermsReason
	out.Since, out.ShownAt, out.Evidence, out.Old, out.At, out.From = a.CreatedAt.UTC(), a.ShownAt, a.Standing,
		a.StandingOld, a.StandingAt, a.StandingFrom
	if a.Against != "" {
		out.Against = &wire.Observation{Kind: a.Against, At: *a.AgainstAt, From: a.AgainstFrom}
	}
	if a.ProbeAt != nil {
		out.Probe = &wire.Probe{Answer: a.ProbeAnswer, Detail: a.ProbeDetail, At: a.ProbeAt.UTC(), From: a.ProbeFrom}
	}
	return out
}

func (s *Server) listAccess(c *gin.Context) {
	p, _, _, ok := page(c, "instance")
	if !ok {
		return
	}
	q := store.AccessQuery{Instance: c.Query("instance"), Key: c.Query("key"), Holder: c.Query("holder"),
		Region: c.Query("region"), Tag: c.Query("tag"), User: c.Query("user"), People: c.Query("people") == "true",
		Evidence: c.Query("evidence"), Page: p}
	if q.Evidence != "" && !checkChoice(c, "evidence", q.Evidence, "none", "placed", "seen", "accepted",
		"proven", "old") {
		return
	}
	if q.OlderThan, ok = days(c, "evidence_older_than_days"); !ok {
		return
	}
	if q.NewerThan, ok = days(c, "evidence_newer_than_days"); !ok {
		return
	}
	rows, next, err := s.opts.Store.AccessList(c.Request.Context(), q)
	if err != nil {
		s.fail(c, err)
		return
	}
	if len(rows) == 0 && !s.known(c, q) {
		return
	}
	keys, out := map[string]wire.Access{}, []wire.Access{}
	for _, a := range rows {
		out = append(out, showAccess(a, keys))
	}
	if err := s.used(c.Request.Context(), out, rows, ""); err != nil {
		s.fail(c, err)
		return
	}
	answerList(c, out, next, func(a wire.Access) wire.Access { return a })
}

// known answers where a name does not exist: that shall not look like one that
// nothing opens.
func (s *Server) known(c *gin.Context, q store.AccessQuery) bool {
	if q.Instance != "" {
		if _, err := s.opts.Store.InstanceByName(c.Request.Context(), q.Instance); errors.Is(err, store.ErrNotFound) {
			s.noInstance(c, q.Instance)
			return false
		} else if err != nil {
			s.fail(c, err)
			return false
		}
	}
	if q.Key != "" {
		if _, err := s.opts.Store.KeyByName(c.Request.Context(), q.Key); err != nil {
			s.missing(c, "key", err)
			return false
		}
	}
	return true
}

func (s *Server) missing(c *gin.Context, what string, err error) {
	if !errors.Is(err, store.ErrNotFound) {
		s.fail(c, err)
		return
	}
	notFound.answer(c, wire.Problem{Field: what,
		Detail: fmt.Sprintf("there is no %s of this name; \"plumlatch %s list\" shows what there is", what, what)})
}

// reportLogin takes what a client says of a login with an access. It counts beside
// the service's own "accepted", newer than the last change, and with the key's
// signature over a challenge that names the instance. Without one it is a word: it
// stands in the journal, and is evidence of nothing.
func (s *Server) reportLogin(c *gin.Context) {
	var r wire.LoginReport
	if c.Request.ContentLength != 0 && !read(c, &r) {
		return
	}
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		notFound.answer(c, wire.Problem{})
		return
	}
	a, err := s.opts.Store.AccessByID(c.Request.Context(), id)
	if err != nil {
		s.fail(c, err)
		return
	}
	st := a.Evidence.Standing(a.ChangedAt)
	if st.Old || st.Shown.Kind < access.Accepted || a.Steward {
		conflict.detail(c, "the service itself has not seen this key accepted since the last change, so the login "+
			"is not taken down")
		return
	}
	if r.Signature != "" {
		k, err := s.opts.Store.KeyByID(c.Request.Context(), a.KeyID)
		if err != nil {
			s.fail(c, err)
			return
		}
		ch, ok := s.signed(c, k, r.Nonce, r.Signature)
		if !ok {
			return
		}
		if ch.InstanceID != a.InstanceID {
			field(c, "nonce", errOtherChallenge)
			return
		}
		if err := s.opts.Store.KeyShown(c.Request.Context(), actor(c), k); err != nil {
			s.fail(c, err)
			return
		}
	}
	if err := s.opts.Store.LoginReported(c.Request.Context(), actor(c), a, r.Signature != ""); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

func catalogue[T any](s *Server, get func(ctx context.Context, region string) ([]T, error)) gin.HandlerFunc {
	return func(c *gin.Context) {
		items, err := get(c.Request.Context(), c.Query("region"))
		if err != nil {
			s.fail(c, err)
			return
		}
		secrets.BlankAll(&items) // a cloud's words
		answerList(c, items, "", func(t T) T { return t })
	}
}

func showEntry(e store.JournalEntry) wire.JournalEntry {
	return wire.JournalEntry{ID: e.ID, At: e.At.UTC(), Operator: e.Operator, Address: e.Address, Action: e.Action,
		Target: e.Target, Intent: e.Intent, Outcome: e.Outcome, Of: e.Of}
}
