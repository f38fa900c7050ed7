package api

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/signin"
	"plumlatch/core/wire"
	"plumlatch/service/store"
)

// Sign-in by key: the service gives a challenge away, and keeps nothing until a signature over it is
// good, so that whoever asks for many costs nothing. What a challenge was given for is sealed in it.

// sessionPrefix tells the token of a client's session from an API token.
const sessionPrefix = "pls_"

// challengeLife is how long a challenge can be answered: long enough for a passphrase, or a touch.
const challengeLife = 3 * time.Minute

// sealedChallenge is what stands in a challenge, for this service alone to read.
type sealedChallenge struct {
	Purpose       string
	Operator, Key string
	Nonce         string
	At            time.Time
}

const challengePurpose = "sign-in challenge 1"

// address is how whoever asks has to have dialled this service: one of its configured addresses, as
// the request's Host was compared with them.
func (s *Server) address(c *gin.Context) string {
	scheme := "http"
	if s.opts.TLS {
		scheme = "https"
	}
	return scheme + "://" + c.Request.Host
}

// signinChallenge gives a challenge for a key and an operator, whether there are such or not.
func (s *Server) signinChallenge(c *gin.Context) {
	var r wire.SigninRequest
	if !read(c, &r) {
		return
	}
	print, is, err := keypair.ParsePrint(r.Key)
	if names.Check(r.Operator) != nil || err != nil || !is || !print.Changes() {
		field(c, "key", errors.New("give the operator's name, and the SHA256 fingerprint of the key that signs"))
		return
	}
	text, err := json.Marshal(sealedChallenge{challengePurpose, r.Operator, print.Text, rand.Text(), time.Now()})
	if err == nil {
		text, err = s.opts.Worker.Door.Cipher.Encrypt(c.Request.Context(), text)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusCreated, wire.SigninChallenge{Challenge: base64.RawURLEncoding.EncodeToString(text)})
}

// errNoSignIn is all that is said of a sign-in by key that is not good because of who asks: whether
// there is such an operator, and which keys sign in, is nobody's to find out here.
var errNoSignIn = errors.New("this key does not sign in as this operator here, or the signature is not good")

// challengeOf opens a challenge: it has to be of this service, for this operator and key, and young.
func (s *Server) challengeOf(c *gin.Context, r wire.SigninProof) error {
	sealed, err := base64.RawURLEncoding.DecodeString(r.Challenge)
	var ch sealedChallenge
	if err == nil {
		var text []byte
		if text, err = s.opts.Worker.Door.Cipher.Decrypt(c.Request.Context(), sealed); err == nil {
			err = json.Unmarshal(text, &ch)
		}
	}
	age := time.Since(ch.At)
	if err != nil || ch.Purpose != challengePurpose || ch.Operator != r.Operator || ch.Key != r.Key ||
		age < -time.Minute || age > challengeLife {
		return fmt.Errorf("this challenge is not open: it is good for one answer, within %d minutes, by the operator and "+
			"the key that it was asked for", int(challengeLife/time.Minute))
	}
	return nil
}

// signInByKey opens a session for a client whose key has signed the statement.
func (s *Server) signInByKey(c *gin.Context) {
	var r wire.SigninProof
	if !read(c, &r) {
		return
	}
	if keypair.LooksPrivate([]byte(r.Signature)) {
		privateKey.answer(c, wire.Problem{Field: "signature", Detail: privateDetail})
		return
	}
	statement := signin.Statement{Service: r.Service, Certificate: r.Certificate, Operator: r.Operator, Key: r.Key,
		Challenge: r.Challenge, At: r.At}
	text, err := statement.Text()
	if err == nil {
		err = statement.Check(s.address(c), s.certificate(), time.Now())
	}
	if err != nil {
		field(c, map[bool]string{true: "at", false: "service"}[errors.Is(err, signin.ErrClock)], err)
		return
	}
	if err := s.challengeOf(c, r); err != nil {
		field(c, "challenge", err)
		return
	}
	o, k, err := s.opts.Store.SigninKey(c.Request.Context(), r.Operator, r.Key)
	if err == nil {
		err = k.Public().Verify([]byte(r.Signature), signin.Namespace, text)
	}
	if errors.Is(err, store.ErrNotFound) || errors.Is(err, keypair.ErrSignature) {
		s.logOf(c).Warn("sign-in by key failed", "from", c.RemoteIP())
		badSignature.answer(c, wire.Problem{Detail: errNoSignIn.Error()})
		return
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	token, sum := secret(sessionPrefix)
	used := sha256.Sum256([]byte(r.Challenge))
	expires, err := s.opts.Store.SignInByKey(c.Request.Context(), store.Actor{Operator: o.Name, Address: c.RemoteIP()}, o,
		used[:], store.NewSession{SHA256: sum, By: store.ByKey, KeyID: k.ID, Key: k.Name})
	if errors.Is(err, store.ErrUsed) {
		field(c, "challenge", err)
		return
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, wire.Session{Operator: showOperator(o), Token: token, ExpiresAt: expires.UTC()})
}

// certificate is that of this service, as a statement names it.
func (s *Server) certificate() string {
	if s.opts.Certificate == nil {
		return signin.NoCertificate
	}
	return signin.Certificate(s.opts.Certificate)
}

// consoleCode makes a code by which the console is opened from this machine, for whoever has a session.
func (s *Server) consoleCode(c *gin.Context) {
	o := operator(c)
	if o.session == nil {
		conflict.detail(c, "an API token opens no session of the console: sign in (plumlatch sign-in %s)", s.address(c))
		return
	}
	code, sum := secret("")
	expires, err := s.opts.Store.AddConsoleCode(c.Request.Context(), o.session, sum, c.RemoteIP())
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusCreated, wire.ConsoleCode{Code: code, ExpiresAt: expires.UTC()})
}

// signInByCode opens a session of the console by a code.
func (s *Server) signInByCode(c *gin.Context) {
	var r wire.ConsoleCode
	if !read(c, &r) {
		return
	}
	code := sha256.Sum256([]byte(r.Code))
	cookie, sum := secret("")
	o, expires, err := s.opts.Store.SignInByCode(c.Request.Context(), code[:], sum, c.RemoteIP())
	if errors.Is(err, store.ErrCode) {
		badSignature.answer(c, wire.Problem{Field: "code", Detail: err.Error()})
		return
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	s.setCookie(c, cookie, int(time.Until(expires).Seconds()))
	c.JSON(http.StatusOK, wire.Session{Operator: showOperator(o), ExpiresAt: expires.UTC()})
}

// maxPassword is the longest password, in bytes, and minPassword the shortest that somebody chooses.
const (
	minPassword = 12
	maxPassword = 1024
)

// setPassword changes one's own password. An operator without one, who signs in by key, gets none this
// way: whoever had stolen a session would have a way in for ever.
func (s *Server) setPassword(c *gin.Context) {
	var r wire.PasswordChange
	if !read(c, &r) {
		return
	}
	o := operator(c)
	switch {
	case o.session == nil:
		conflict.detail(c, "an API token changes no password: sign in")
		return
	case len(r.New) < minPassword || len(r.New) > maxPassword:
		field(c, "new", fmt.Errorf("a password has %d to %d bytes", minPassword, maxPassword))
		return
	}
	end, err := s.hashing.begin(c.Request.Context())
	if err != nil {
		s.fail(c, err)
		return
	}
	defer end()
	if err := s.opts.Store.SigninBegins(c.Request.Context(), o.Name, c.RemoteIP()); err != nil { // guesses count here too
		s.fail(c, err)
		return
	}
	_, hash, err := s.opts.Store.PasswordHash(c.Request.Context(), o.Name)
	if err != nil {
		s.fail(c, err)
		return
	}
	if hash == "" {
		conflict.detail(c, "%s has no password, and signs in by key", o.Name)
		return
	}
	if !checkPassword(hash, r.Password) {
		badPassword.answer(c, wire.Problem{Field: "password", Detail: "the present password is another one"})
		return
	}
	if err := s.opts.Store.SetPassword(c.Request.Context(), actor(c), o.ID, HashPassword(r.New), o.session); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

func showOperatorKey(k store.OperatorKey) wire.OperatorKey {
	return wire.OperatorKey{Key: k.Name, Fingerprint: k.Fingerprint, State: stateOf(k.State, k.RetiredAt != nil),
		SignsIn: k.SignsIn, GivesWord: k.GivesWord, Opens: k.Reach + k.Found}
}

// operatorKeys lists what signs for an operator: one's own, or anybody's for an admin.
func (s *Server) operatorKeys(c *gin.Context) {
	if o := operator(c); names.Fold(o.Name) != names.Fold(c.Param("name")) && !o.Role.Includes(store.Admin) {
		notFound.detail(c, "which keys sign for others is shown to admins")
		return
	}
	rows, err := s.opts.Store.KeysOfOperator(c.Request.Context(), c.Param("name"))
	if err != nil {
		s.fail(c, err)
		return
	}
	answerList(c, rows, "", showOperatorKey)
}

// setOperatorKey says what a key signs for an operator.
func (s *Server) setOperatorKey(c *gin.Context) {
	use := wire.OperatorKeyUse{GivesWord: true}
	if c.Request.ContentLength != 0 && !read(c, &use) {
		return
	}
	if !use.SignsIn && !use.GivesWord {
		field(c, "signs_in", errors.New("say what the key signs: in, words, or both"))
		return
	}
	s.useOperatorKey(c, store.KeyUse(use))
}

// dropOperatorKey says that a key signs for an operator no longer.
func (s *Server) dropOperatorKey(c *gin.Context) { s.useOperatorKey(c, store.KeyUse{}) }

func (s *Server) useOperatorKey(c *gin.Context, use store.KeyUse) {
	k, err := s.opts.Store.KeyByName(c.Request.Context(), c.Param("key"))
	if err == nil && use != (store.KeyUse{}) && (k.Authority || k.State != "in use" || k.RetiredAt != nil) {
		conflict.detail(c, "%s is no key in use: it signs for nobody", k.Name)
		return
	}
	if err == nil {
		err = s.opts.Store.SetOperatorKey(c.Request.Context(), actor(c), c.Param("name"), k, use)
	}
	if errors.Is(err, store.ErrNotFound) {
		notFound.detail(c, "there is no operator or no key of this name; \"plumlatch operator list\" and "+
			"\"plumlatch key list\" show what there is")
		return
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, showOperatorKey(store.OperatorKey{Key: k, SignsIn: use.SignsIn, GivesWord: use.GivesWord}))
}

// operatorsKey finds or records the key by which a new operator signs in.
func (s *Server) operatorsKey(c *gin.Context, operator, line string) (k store.Key, ok bool) {
	p, err := keypair.ReadPublic([]byte(line))
	if err != nil {
		if errors.Is(err, keypair.ErrPrivateKey) {
			privateKey.answer(c, wire.Problem{Field: "public_key", Detail: privateDetail})
		} else {
			field(c, "public_key", err)
		}
		return k, false
	}
	k, err = s.opts.Store.KeyByFingerprint(c.Request.Context(), p.Fingerprint())
	for n := 1; errors.Is(err, store.ErrNotFound); n++ {
		name := operator + "-signs-in"
		if n > 1 {
			name = fmt.Sprintf("%s-%d", name, n)
		}
		k, err = s.opts.Store.AddKey(c.Request.Context(), actor(c), store.NewKey{Name: name, Origin: store.Imported,
			Note: "signs in as " + operator, Public: p})
		if errors.Is(err, store.ErrNameTaken) && n < 20 {
			err = store.ErrNotFound // try the next one
		}
	}
	if err == nil && (k.Authority || k.State != "in use" || k.RetiredAt != nil) {
		conflict.answer(c, wire.Problem{Field: "public_key", Detail: fmt.Sprintf("%s is no key in use: it signs in for nobody", k.Name)})
		return k, false
	}
	if err != nil {
		s.fail(c, err)
	}
	return k, err == nil
}
