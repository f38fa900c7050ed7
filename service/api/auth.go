package api

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/crypto/argon2"

	"plumlatch/core/names"
	"plumlatch/core/times"
	"plumlatch/core/wire"
	"plumlatch/service/store"
)

const operatorKey = "operator"

type signedIn struct {
	store.Operator
	session []byte    // SHA-256 of the cookie; nil with a token
	token   []byte    // SHA-256 of the token; nil with a session
	tokenID int64     // 0 with a session
	ends    time.Time // of the token; zero with a session
}

// stillIn tells whether who asked may still: a request that goes on for long looks
// again now and then.
func (s *Server) stillIn(ctx context.Context, o signedIn, address string) bool {
	var err error
	if o.session != nil {
		_, err = s.opts.Store.SessionOperator(ctx, o.session)
	} else {
		_, err = s.opts.Store.TokenOperator(ctx, o.token, address)
	}
	return err == nil
}

func operator(c *gin.Context) signedIn { return c.MustGet(operatorKey).(signedIn) }

func actor(c *gin.Context) store.Actor {
	return store.Actor{Operator: operator(c).Name, Address: c.RemoteIP()}
}

// identify finds out who asks, by token or by session cookie.
func (s *Server) identify(c *gin.Context) {
	if header := c.GetHeader("Authorization"); header != "" {
		token, ok := strings.CutPrefix(header, "Bearer ")
		if !ok {
			unauthenticated.answer(c, wire.Problem{})
			return
		}
		sum := sha256.Sum256([]byte(token))
		if strings.HasPrefix(token, sessionPrefix) { // of a client that signed in
			o, err := s.opts.Store.SessionOperator(c.Request.Context(), sum[:])
			switch {
			case errors.Is(err, store.ErrNotFound):
				badToken.detail(c, "the session has ended; sign in again (plumlatch sign-in %s)", s.address(c))
			case err != nil:
				s.fail(c, err)
			default:
				c.Set(operatorKey, signedIn{Operator: o, session: sum[:]})
				c.Next()
			}
			return
		}
		o, err := s.opts.Store.TokenOperator(c.Request.Context(), sum[:], c.RemoteIP())
		switch {
		case errors.Is(err, store.ErrNotFound):
			badToken.detail(c, "this token is not known here")
		case errors.Is(err, store.ErrTokenExpired):
			badToken.detail(c, "this token has expired or was revoked, or its operator is disabled")
		case err != nil:
			s.fail(c, err)
		default:
			c.Set(operatorKey, signedIn{Operator: o.Operator, token: sum[:], tokenID: o.TokenID, ends: o.Ends})
			c.Next()
		}
		return
	}
	cookie, err := c.Cookie(s.cookieName())
	if err != nil {
		unauthenticated.answer(c, wire.Problem{})
		return
	}
	// A browser sends the cookie by itself; SameSite=Strict and this hold other sites off.
	if c.Request.Method != http.MethodGet && c.GetHeader("Origin") == "" &&
		c.GetHeader("Sec-Fetch-Site") != "same-origin" {
		wrongOrigin.answer(c, wire.Problem{})
		return
	}
	sum := sha256.Sum256([]byte(cookie))
	o, err := s.opts.Store.SessionOperator(c.Request.Context(), sum[:])
	if errors.Is(err, store.ErrNotFound) {
		unauthenticated.detail(c, "the session has ended; sign in again")
		return
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Set(operatorKey, signedIn{Operator: o, session: sum[:]})
	c.Next()
}

func (s *Server) require(role store.Role) gin.HandlerFunc {
	return func(c *gin.Context) {
		if o := operator(c); !o.Role.Includes(role) {
			forbidden.detail(c, "this needs the role %s; %s has %s here", role, o.Name, o.Role)
			return
		}
		c.Next()
	}
}

func (s *Server) cookieName() string {
	if s.opts.TLS {
		return "__Host-plumlatch"
	}
	return "plumlatch"
}

func (s *Server) setCookie(c *gin.Context, value string, maxAge int) {
	http.SetCookie(c.Writer, &http.Cookie{
		Name: s.cookieName(), Value: value, Path: "/", MaxAge: maxAge, Secure: s.opts.TLS, HttpOnly: true,
		SameSite: http.SameSiteStrictMode,
	})
}

// secret returns 256 random bits as text, with a prefix that tells what it is.
func secret(prefix string) (text string, sum []byte) {
	b := make([]byte, 32)
	_, _ = rand.Read(b) // never fails
	text = prefix + base64.RawURLEncoding.EncodeToString(b)
	h := sha256.Sum256([]byte(text))
	return text, h[:]
}

// Costs of argon2id (RFC 9106): 19 MiB, two passes.
const (
	argonMemory = 19 << 10 // KiB
	argonTime   = 2
	saltLength  = 16
)

// HashPassword returns the argon2id hash of a password, with its salt, as text.
func HashPassword(password string) string {
	salt := make([]byte, saltLength)
	_, _ = rand.Read(salt)
	return fmt.Sprintf("argon2id$%d$%d$%s", argonMemory, argonTime,
		base64.RawStdEncoding.EncodeToString(append(salt, derive(password, salt)...)))
}

func derive(password string, salt []byte) []byte {
	return argon2.IDKey([]byte(password), salt, argonTime, argonMemory, 1, 32)
}

// checkPassword compares in a time that does not depend on the operator's existence.
func checkPassword(hash, password string) bool {
	parts := strings.Split(hash, "$")
	data := make([]byte, saltLength+32)
	if len(parts) == 4 {
		if d, err := base64.RawStdEncoding.DecodeString(parts[3]); err == nil && len(d) == len(data) {
			data = d
		}
	}
	return subtle.ConstantTimeCompare(derive(password, data[:saltLength]), data[saltLength:]) == 1
}

// NewPassword returns a password of 100 random bits in groups that can be typed.
func NewPassword() string {
	const letters = "abcdefghjkmnpqrstuvwxyz23456789-" // 32, without look-alikes
	b := make([]byte, 20)
	_, _ = rand.Read(b)
	var out strings.Builder
	for i, x := range b {
		if i > 0 && i%5 == 0 {
			out.WriteByte('.')
		}
		out.WriteByte(letters[x&31])
	}
	return out.String()
}

// signIn opens a session for the console: {"operator": ..., "password": ...}.
func (s *Server) signIn(c *gin.Context) {
	var r wire.Credentials
	if !read(c, &r) {
		return
	}
	if names.Check(r.Operator) != nil || len(r.Password) > 1024 {
		badPassword.answer(c, wire.Problem{})
		return
	}
	// A turn first, then the count, then the password: what waits in the queue has
	// cost nobody anything yet, and no attempt is made that was not counted before.
	end, err := s.hashing.begin(c.Request.Context())
	if err != nil {
		s.fail(c, err)
		return
	}
	defer end()
	if err := s.opts.Store.SigninBegins(c.Request.Context(), r.Operator, c.RemoteIP()); err != nil {
		s.fail(c, err)
		return
	}
	o, hash, err := s.opts.Store.PasswordHash(c.Request.Context(), r.Operator)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		s.fail(c, err)
		return
	}
	if good := checkPassword(hash, r.Password); !good || hash == "" || err != nil {
		s.logOf(c).Warn("sign-in failed", "from", c.RemoteIP())
		badPassword.answer(c, wire.Problem{})
		return
	}
	prefix := ""
	if r.Token {
		prefix = sessionPrefix
	}
	text, sum := secret(prefix)
	expires, err := s.opts.Store.AddSession(c.Request.Context(), store.Actor{Operator: o.Name, Address: c.RemoteIP()},
		o, store.NewSession{SHA256: sum, By: store.ByPassword})
	if err != nil {
		s.fail(c, err)
		return
	}
	out := wire.Session{Operator: showOperator(o), ExpiresAt: expires.UTC()}
	if r.Token {
		out.Token = text
	} else {
		s.setCookie(c, text, int(time.Until(expires).Seconds()))
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) whoAmI(c *gin.Context) { c.JSON(http.StatusOK, showOperator(operator(c).Operator)) }

func (s *Server) signOut(c *gin.Context) {
	if sum := operator(c).session; sum != nil {
		if err := s.opts.Store.EndSession(c.Request.Context(), actor(c), sum); err != nil {
			s.fail(c, err)
			return
		}
	}
	s.setCookie(c, "", -1)
	c.Status(http.StatusNoContent)
}

func showOperator(o store.Operator) wire.Operator {
	return wire.Operator{Name: o.Name, Role: string(o.Role), Disabled: o.DisabledAt != nil,
		CreatedAt: o.CreatedAt.UTC()}
}

func (s *Server) listOperators(c *gin.Context) {
	rows, err := s.opts.Store.Operators(c.Request.Context())
	if err != nil {
		s.fail(c, err)
		return
	}
	answerList(c, rows, "", showOperator)
}

var roleChoices = []string{string(store.Viewer), string(store.Editor), string(store.Admin)}

func checkRole(c *gin.Context, r store.Role) bool {
	if !r.Valid() {
		invalidField.answer(c, wire.Problem{Field: "role", Detail: "unknown role", Choices: roleChoices})
	}
	return r.Valid()
}

// addOperator makes an operator and returns a password, shown this once.
func (s *Server) addOperator(c *gin.Context) {
	var r wire.Operator
	if !read(c, &r) {
		return
	}
	role := store.Role(r.Role)
	if !checkRole(c, role) {
		return
	}
	if err := names.Check(r.Name); err != nil {
		s.fail(c, err)
		return
	}
	if r.PublicKey != "" { // it signs in by that, and has no password
		k, ok := s.operatorsKey(c, r.Name, r.PublicKey)
		if !ok {
			return
		}
		if err := s.opts.Store.AddOperator(c.Request.Context(), actor(c), r.Name, role, "", k); err != nil {
			s.fail(c, err)
			return
		}
		shown := showOperatorKey(store.OperatorKey{Key: k, SignsIn: true})
		c.JSON(http.StatusCreated, wire.Operator{Name: r.Name, Role: r.Role, CreatedAt: time.Now().UTC(), Key: &shown})
		return
	}
	end, err := s.hashing.begin(c.Request.Context())
	if err != nil {
		s.fail(c, err)
		return
	}
	defer end()
	password := NewPassword()
	if err := s.opts.Store.AddOperator(c.Request.Context(), actor(c), r.Name, role,
		HashPassword(password)); err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusCreated, wire.Operator{Name: r.Name, Role: r.Role, CreatedAt: time.Now().UTC(),
		Password: password})
}

func (s *Server) changeOperator(c *gin.Context) {
	var r wire.OperatorChange
	if !read(c, &r) || r.Role != nil && !checkRole(c, store.Role(*r.Role)) {
		return
	}
	if r.Role == nil && r.Disabled == nil {
		field(c, "role", errors.New("give a role, or disabled"))
		return
	}
	err := s.opts.Store.ChangeOperator(c.Request.Context(), actor(c), c.Param("name"),
		(*store.Role)(r.Role), r.Disabled, nil)
	if errors.Is(err, store.ErrNotFound) {
		notFound.detail(c, "there is no operator of this name; \"plumlatch operator list\" shows who there is")
		return
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

func showToken(t store.Token) wire.Token {
	return wire.Token{ID: t.ID, Operator: t.Operator, Name: t.Name, Role: string(t.Role),
		CreatedAt: t.CreatedAt.UTC(), ExpiresAt: t.ExpiresAt.UTC(),
		RevokedAt: t.RevokedAt, LastUsedAt: t.LastUsedAt, LastUsedFrom: t.LastUsedFrom}
}

// whoseTokens returns whose tokens an operator may see and end: an admin everybody's.
func whoseTokens(o signedIn) int64 {
	if o.Role.Includes(store.Admin) {
		return 0
	}
	return o.ID
}

func (s *Server) listTokens(c *gin.Context) {
	rows, err := s.opts.Store.Tokens(c.Request.Context(), whoseTokens(operator(c)))
	if err != nil {
		s.fail(c, err)
		return
	}
	answerList(c, rows, "", showToken)
}

const maxTokenLife = 366 * 24 * time.Hour

// createToken makes a token for whoever asks; its role is at most theirs.
func (s *Server) createToken(c *gin.Context) {
	var r wire.NewToken
	if !read(c, &r) {
		return
	}
	o := operator(c)
	role := store.Role(r.Role)
	if role == "" {
		role = o.Role
	}
	if !checkRole(c, role) {
		return
	}
	life := time.Duration(r.Seconds) * time.Second
	switch {
	case names.Check(r.Name) != nil:
		s.fail(c, names.Check(r.Name))
		return
	case r.Seconds < 60 || life > maxTokenLife || life/time.Second != time.Duration(r.Seconds):
		field(c, "seconds", errors.New("a token lasts from one minute to 366 days"))
		return
	case !o.Role.Includes(role):
		forbidden.detail(c, "a token's role is at most its operator's, and %s is %s here", o.Name, o.Role)
		return
	}
	expires := time.Now().Add(life)
	if o.tokenID != 0 && expires.After(o.ends) {
		// What a token makes ends with it: a token that was stolen is over when it is.
		field(c, "seconds", fmt.Errorf("a token that a token makes ends with it, on %s: make it shorter, or sign "+
			"in on the console to make a longer one", times.Show(o.ends.UTC())))
		return
	}
	text, sum := secret("plt_")
	t, err := s.opts.Store.AddToken(c.Request.Context(), actor(c),
		store.NewToken{OperatorID: o.ID, ParentID: o.tokenID, Name: r.Name, Role: role, SHA256: sum, Expires: expires})
	if err != nil {
		s.fail(c, err)
		return
	}
	out := showToken(t)
	out.Token = text
	c.JSON(http.StatusCreated, out)
}

func (s *Server) revokeToken(c *gin.Context) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		notFound.answer(c, wire.Problem{})
		return
	}
	err = s.opts.Store.RevokeToken(c.Request.Context(), actor(c), whoseTokens(operator(c)), operator(c).tokenID, id)
	if errors.Is(err, store.ErrOtherToken) {
		forbidden.detail(c, "%v", err)
		return
	}
	if errors.Is(err, store.ErrNotFound) {
		notFound.detail(c, "you have no token of this ID; \"plumlatch token list\" shows which there are")
		return
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}
