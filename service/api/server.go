// Package api is the service's HTTP interface: JSON under /api/v1 for the
// client and the console, and the console itself.
package api

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"

	"plumlatch/core/plaintext"
	"plumlatch/core/secrets"
	"plumlatch/core/wire"
	"plumlatch/service/kinds"
	"plumlatch/service/store"
)

// Options are what a Server needs. All fields but Hosts and Log are needed.
type Options struct {
	Store   *store.Store
	Worker  *kinds.Worker
	Console fs.FS    // the built console, with index.html at its root
	Hosts   []string // further host[:port] values that the service answers to
	Listen  string   // host:port that it listens on
	TLS     bool
	// Certificate is the leaf that is served (DER); nil without TLS.
	Certificate []byte
	Closing     <-chan struct{} // closed when the service ends: who follows something is let go
	Log         *slog.Logger
}

// Server answers requests.
type Server struct {
	opts    Options
	hosts   []string
	counted counted
	bounds  bounds
	hashing hashing

	document document
	seconds  *prometheus.HistogramVec // how long requests took
}

// New returns the handler for everything.
func New(o Options) http.Handler {
	if o.Log == nil {
		o.Log = slog.Default()
	}
	s := &Server{opts: o, hosts: slices.Clone(o.Hosts),
		seconds: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "plumlatch_request_seconds",
			Help: "How long requests took, by route.", Buckets: prometheus.ExponentialBuckets(0.001, 4, 8)},
			[]string{"method", "route", "status"})}
	if host, port, err := net.SplitHostPort(o.Listen); err == nil {
		s.hosts = append(s.hosts, o.Listen)
		if ip := net.ParseIP(host); ip != nil && ip.IsLoopback() {
			s.hosts = append(s.hosts, "localhost:"+port)
		}
	}
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.HandleMethodNotAllowed = false
	// A redirect would have the path in it, and that may hold anything that somebody pasted.
	r.RedirectTrailingSlash = false
	// Nobody's word but the connection's counts for where a request comes from.
	_ = r.SetTrustedProxies(nil)
	r.Use(s.log, s.recover, s.guard)
	r.GET("/healthz", func(c *gin.Context) { c.String(http.StatusOK, "ok\n") })
	r.GET("/readyz", s.ready)
	r.GET("/problems/:slug", explain)

	v1 := r.Group("/api/v1")
	s.routesOf(v1)
	r.NoRoute(s.console())
	return r
}

func (s *Server) ready(c *gin.Context) {
	if err := s.opts.Store.Ping(c.Request.Context()); err != nil {
		c.String(http.StatusServiceUnavailable, "the database does not answer\n")
		return
	}
	c.String(http.StatusOK, "ready\n")
}

// log writes one line a request: the route as it is declared, not the path or
// the query that were sent, which may hold anything.
func (s *Server) log(c *gin.Context) {
	begin := time.Now()
	c.Header(requestID, rand.Text()[:12])
	c.Next()
	route := c.FullPath()
	method := c.Request.Method
	if route == "" { // whoever asks for what is not there may give any method
		route, method = "(console)", "-"
	}
	who := "-"
	if o, ok := c.Get(operatorKey); ok {
		who = o.(signedIn).Name
	}
	s.seconds.WithLabelValues(method, route, strconv.Itoa(c.Writer.Status()/100)+
		"xx").Observe(time.Since(begin).Seconds())
	s.logOf(c).Info("request", "method", c.Request.Method, "route", route, "status", c.Writer.Status(),
		"took", time.Since(begin).Round(time.Microsecond), "from", c.RemoteIP(), "operator", who)
}

// requestID is the header of every answer that names it; the log lines of the request and its
// problem document have the same.
const requestID = "Request-Id"

// logOf is the log with the request's ID.
func (s *Server) logOf(c *gin.Context) *slog.Logger {
	return s.opts.Log.With("request_id", c.Writer.Header().Get(requestID))
}

// recover answers a panic. Gin's own recovery prints headers, and so tokens.
func (s *Server) recover(c *gin.Context) {
	defer func() {
		if v := recover(); v != nil {
			s.logOf(c).Error("panic", "route", c.FullPath(), "type", fmt.Sprintf("%T", v), "stack",
				string(debug.Stack()))
			internal.answer(c, wire.Problem{})
		}
	}()
	c.Next()
}

// guard refuses requests that a browser was lured into: another Host (DNS
// rebinding), another Origin. It also sets the headers of every answer.
func (s *Server) guard(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Cache-Control", "no-store")
	h.Set("X-Frame-Options", "DENY")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
	h.Set("Cross-Origin-Opener-Policy", "same-origin")
	// A request line with a host of its own would be taken for the Host header (RFC
	// 9112 section 3.2.2); browsers and our client send none.
	if !slices.Contains(s.hosts, c.Request.Host) || c.Request.URL.Host != "" || c.Request.URL.Scheme != "" ||
		c.Request.URL.User != nil {
		wrongHost.answer(c, wire.Problem{})
		return
	}
	if origin := c.GetHeader("Origin"); origin != "" && !s.ownOrigin(origin, c.Request.Host) {
		wrongOrigin.answer(c, wire.Problem{})
		return
	}
	if !s.plainAddress(c) {
		return
	}
	c.Next()
}

// ownOrigin compares the whole text: an origin has a scheme and a host, and nothing
// else (RFC 6454 section 6.2).
func (s *Server) ownOrigin(origin, host string) bool {
	scheme := "http"
	if s.opts.TLS {
		scheme = "https"
	}
	return origin == scheme+"://"+host
}

// plainAddress refuses what no path and no query of ours has: NUL and bytes that
// are not UTF-8, which the database would refuse; and private keys. It answers if
// it does.
func (s *Server) plainAddress(c *gin.Context) bool {
	texts := []string{c.Request.URL.Path}
	query, err := url.ParseQuery(c.Request.URL.RawQuery)
	if err != nil {
		badRequest.detail(c, "the query cannot be read")
		return false
	}
	for name, values := range query {
		texts = append(append(texts, name), values...)
	}
	for name, values := range c.Request.Header {
		if name != "Authorization" && name != "Cookie" {
			texts = append(texts, values...)
		}
	}
	for _, t := range texts {
		if !utf8.ValidString(t) || strings.ContainsRune(t, 0) {
			badRequest.detail(c, "the path, the query and the headers are UTF-8 without NUL")
			return false
		}
		if secrets.Holds(t) {
			privateKey.answer(c, wire.Problem{Detail: privateDetail})
			return false
		}
	}
	return true
}

// maxBody is the most that a request may send, in bytes.
const maxBody = 128 << 10

// read decodes the request's one JSON object, and answers if it cannot.
func read(c *gin.Context, into any) bool { return readUpTo(c, maxBody, into) }

func readUpTo(c *gin.Context, limit int64, into any) bool {
	data, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, limit))
	if _, over := errors.AsType[*http.MaxBytesError](err); over {
		tooLarge.detail(c, "the request is over %d bytes", limit)
		return false
	}
	if err != nil {
		badRequest.detail(c, "the request's body broke off")
		return false
	}
	if !utf8.Valid(data) { // the decoder would put something else in its place
		badRequest.detail(c, "the request's body is not UTF-8")
		return false
	}
	if !plainBody(c, data) {
		return false
	}
	c.Set(bodyKey, data)
	d := json.NewDecoder(strings.NewReader(string(data)))
	d.DisallowUnknownFields()
	err = d.Decode(into)
	if err == nil && d.More() {
		err = errors.New("more than one JSON value")
	}
	if typeErr, ok := errors.AsType[*json.UnmarshalTypeError](err); ok {
		badRequest.answer(c, wire.Problem{Field: typeErr.Field, Detail: "the field has the wrong JSON type"})
		return false
	}
	if err != nil {
		// The decoder's own words may quote what was sent.
		badRequest.detail(c, "the body is not one JSON object with the fields that this call takes")
		return false
	}
	return true
}

// plainBody looks at every string of a body, names of fields too, as it is once it
// is decoded, before anything is done with it: a private key goes no further, and
// NUL has no place in any of them. It answers if it refuses. What cannot be decoded
// is refused where it is read.
func plainBody(c *gin.Context, data []byte) bool {
	var body any
	if json.Unmarshal(data, &body) != nil || secrets.Holds(string(data)) && !textsHold(&body) {
		// No JSON, or JSON that is a key itself (RFC 7517).
		if secrets.Holds(string(data)) {
			privateKey.answer(c, wire.Problem{Detail: privateDetail})
			return false
		}
		return true
	}
	secret, nul := "", ""
	found, bad := false, false
	secrets.Each(&body, func(path, text string) string {
		if !found && secrets.Holds(text) {
			secret, found = path, true
		}
		if !bad && strings.ContainsRune(text, 0) {
			nul, bad = path, true
		}
		return text
	})
	switch {
	case found:
		// The place may be a private key's own text.
		if secrets.Holds(secret) || plaintext.HasControl(secret) || len(secret) > 100 {
			secret = ""
		}
		privateKey.answer(c, wire.Problem{Field: secret, Detail: privateDetail})
	case bad:
		if plaintext.HasControl(nul) || len(nul) > 100 {
			nul = ""
		}
		field(c, nul, errors.New("a text has no NUL in it"))
	}
	return !found && !bad
}

// textsHold tells whether one of the texts of a value holds a private key.
func textsHold(v *any) (found bool) {
	secrets.Each(v, func(_, text string) string {
		found = found || secrets.Holds(text)
		return text
	})
	return found
}

func answerList[S, T any](c *gin.Context, rows []S, next string, show func(S) T) {
	out := wire.List[T]{Items: make([]T, 0, len(rows)), NextCursor: next}
	for _, r := range rows {
		out.Items = append(out.Items, show(r))
	}
	c.JSON(http.StatusOK, out)
}

// page reads limit, cursor, sort and order of a list request. Sort must be one
// of sorts, the first of which is the default.
func page(c *gin.Context, sorts ...string) (p store.Page, sort string, descending, ok bool) {
	p = store.Page{Cursor: c.Query("cursor")}
	if v := c.Query("limit"); v != "" {
		if _, err := fmt.Sscanf(v, "%d", &p.Limit); err != nil || p.Limit < 1 || p.Limit > 500 {
			field(c, "limit", errors.New("limit is a number from 1 to 500"))
			return p, "", false, false
		}
	}
	sort = c.Query("sort")
	if sort != "" && !slices.Contains(sorts, sort) {
		invalidField.answer(c, wire.Problem{Field: "sort", Detail: "unknown sort", Choices: sorts})
		return p, "", false, false
	}
	switch c.Query("order") {
	case "", "asc":
	case "desc":
		descending = true
	default:
		invalidField.answer(c, wire.Problem{Field: "order", Detail: "unknown order", Choices: []string{"asc", "desc"}})
		return p, "", false, false
	}
	return p, sort, descending, true
}

// bodyKey is under which read keeps the body for once.
const bodyKey = "body"

const maxOnceKey = 200

// once reads the Idempotency-Key header, under which a request that is sent
// twice is done once. Nothing of the body is kept but its hash.
func once(c *gin.Context) (store.Once, bool) {
	key := c.GetHeader("Idempotency-Key")
	if len(key) > maxOnceKey || plaintext.HasControl(key) || secrets.Holds(key) {
		field(c, "Idempotency-Key", fmt.Errorf("give at most %d printable characters, such as a random number",
			maxOnceKey))
		return store.Once{}, false
	}
	h := sha256.New()
	fmt.Fprintf(h, "%s %s\n", c.Request.Method, c.Request.URL.Path)
	if body, ok := c.Get(bodyKey); ok {
		h.Write(body.([]byte))
	}
	return store.Once{OperatorID: operator(c).ID, Key: key, Sum: h.Sum(nil)}, true
}
