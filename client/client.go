// Package client speaks to a Plum Latch service over its HTTP API.
package client

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
)

// Client is a service at a URL, and the token to use there.
type Client struct {
	url, token string
	http       *http.Client
}

// Errors of New.
var (
	ErrURL   = errors.New("this is no URL of a service; give one such as http://127.0.0.1:8470")
	ErrToken = errors.New("the token holds a blank or control character; copy it again")
)

// New returns a client; base is such as "http://127.0.0.1:8470". It does not connect yet.
func New(base, token string) (*Client, error) {
	u, err := url.Parse(base)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil {
		return nil, ErrURL
	}
	if strings.ContainsAny(token, " \t\r\n") || plaintext.HasControl(token) {
		return nil, ErrToken
	}
	return &Client{url: strings.TrimRight(base, "/"), token: token, http: &http.Client{
		Timeout: 60 * time.Second,
		// A redirect would carry the token elsewhere.
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}, nil
}

// URL returns the base that New was given.
func (c *Client) URL() string { return c.url }

// Problem is the service's answer to a request that it refused or that failed
// there. Its text has been made safe to show.
type Problem struct{ wire.Problem }

// Error returns the detail.
func (p *Problem) Error() string {
	text := cmp.Or(p.Detail, p.Title)
	if p.Status >= 500 && p.RequestID != "" { // by that its cause is found in the service's log
		text += " (request " + p.RequestID + ")"
	}
	return text
}

// Of tells whether the problem is of the given sort, such as "name-taken".
func (p *Problem) Of(sort string) bool { return p.Type == "/problems/"+sort }

// Definite tells whether the service took the request and refused it (a 4xx):
// nothing was changed. After any other error it is not known.
func Definite(err error) bool {
	p, ok := errors.AsType[*Problem](err)
	return ok && p.Status >= 400 && p.Status < 500
}

// Unreachable is the error of a request that got no answer.
type Unreachable struct {
	URL   string
	Cause error
}

// Error says where it was tried.
func (u *Unreachable) Error() string {
	cause := u.Cause
	if ue, ok := errors.AsType[*url.Error](cause); ok {
		cause = ue.Err
	}
	return fmt.Sprintf("no answer from the service at %s: %v", u.URL, cause)
}

// Unwrap returns the cause.
func (u *Unreachable) Unwrap() error { return u.Cause }

const maxAnswer = 32 << 20

// once makes a request that is done once although it is sent again when its
// answer was lost: it carries a name of its own (Idempotency-Key).
func (c *Client) once(ctx context.Context, method, path string, body, answer any) error {
	name := rand.Text()
	var err error
	for try := range 4 {
		if err = c.send(ctx, method, path, nil, name, body, answer); err == nil {
			return nil
		}
		if _, lost := errors.AsType[*Unreachable](err); !lost || ctx.Err() != nil {
			return err
		}
		// Nobody there at all: the first word of it is enough.
		if opErr, ok := errors.AsType[*net.OpError](err); ok && opErr.Op == "dial" && try == 0 {
			return err
		}
		if !pause(ctx, time.Duration(try+1)*200*time.Millisecond) {
			return err
		}
	}
	return err
}

// pause waits, and tells whether the context lasted as long.
func pause(ctx context.Context, d time.Duration) bool {
	select {
	case <-time.After(d):
		return true
	case <-ctx.Done():
		return false
	}
}

func (c *Client) do(ctx context.Context, method, path string, query url.Values, body, answer any) error {
	return c.send(ctx, method, path, query, "", body, answer)
}

func (c *Client) send(ctx context.Context, method, path string, query url.Values, once string, body, answer any) error {
	_, err := c.sized(ctx, method, path, query, once, body, answer)
	return err
}

// sized is send that tells how many bytes were answered.
func (c *Client) sized(ctx context.Context, method, path string, query url.Values, once string, body,
	answer any) (int, error) {
	req, err := c.request(ctx, method, path, query, once, body)
	if err != nil {
		return 0, err
	}
	resp, err := c.http.Do(req)
	if err != nil {
		return 0, &Unreachable{c.url, err}
	}
	defer resp.Body.Close()
	data, err := io.ReadAll(io.LimitReader(resp.Body, maxAnswer))
	if err != nil {
		return 0, &Unreachable{c.url, err}
	}
	if resp.StatusCode >= 300 {
		return len(data), c.problemOf(resp, data)
	}
	if answer == nil || resp.StatusCode == http.StatusNoContent {
		return len(data), nil
	}
	if err := json.Unmarshal(data, answer); err != nil {
		return len(data), fmt.Errorf("what answers at %s is no Plum Latch service: its answer cannot be read", c.url)
	}
	return len(data), nil
}

func (c *Client) request(ctx context.Context, method, path string, query url.Values, once string,
	body any) (*http.Request, error) {
	var r io.Reader
	if body != nil {
		data, err := json.Marshal(body)
		if err != nil {
			return nil, err
		}
		r = bytes.NewReader(data)
	}
	target := c.url + "/api/v1" + path
	if len(query) > 0 {
		target += "?" + query.Encode()
	}
	req, err := http.NewRequestWithContext(ctx, method, target, r)
	if err != nil {
		return nil, err
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	if once != "" {
		req.Header.Set("Idempotency-Key", once)
	}
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	return req, nil
}

// problem reads the answer to a request that was refused or that failed.
func (c *Client) problem(resp *http.Response) error {
	data, err := io.ReadAll(io.LimitReader(resp.Body, maxAnswer))
	if err != nil {
		return &Unreachable{c.url, err}
	}
	return c.problemOf(resp, data)
}

func (c *Client) problemOf(resp *http.Response, data []byte) error {
	p := &Problem{}
	if json.Unmarshal(data, &p.Problem) != nil || p.Type == "" {
		p.Problem = wire.Problem{Detail: "what answers at " + c.url + " is no Plum Latch service (" +
			plaintext.Line(resp.Status) + ")"}
	}
	p.Status = resp.StatusCode
	p.Detail, p.Title = plaintext.Lines(p.Detail), plaintext.Line(p.Title)
	return p
}

// Bounds of a list: a service that always sends another cursor, or more than any
// fleet has, keeps nobody busy for ever.
const (
	maxPages = 4000      // of 500
	maxList  = 512 << 20 // bytes
)

// ErrEndless says that a list of the service's does not end.
var ErrEndless = errors.New("the service's list does not end: it sends one page after the other, or the same one " +
	"again; nothing was done with it")

// all follows the cursors of a list to its end. ErrEndless.
func all[T any](ctx context.Context, c *Client, path string, query url.Values) ([]T, error) {
	out := []T{}
	q := url.Values{"limit": {"500"}}
	for k, v := range query {
		if len(v) > 0 && v[0] != "" {
			q[k] = v
		}
	}
	had := map[string]bool{}
	bytes := 0
	for range maxPages {
		var page wire.List[T]
		n, err := c.sized(ctx, "GET", path, q, "", nil, &page)
		if err != nil {
			return nil, err
		}
		out = append(out, page.Items...)
		if page.NextCursor == "" {
			return out, nil
		}
		if bytes += n; bytes > maxList || had[page.NextCursor] || len(page.Items) == 0 {
			return nil, ErrEndless
		}
		had[page.NextCursor] = true
		q.Set("cursor", page.NextCursor)
	}
	return nil, ErrEndless
}

// quietLimit is how long a stream of the service's may say nothing: it sends a
// comment every 15 s.
const quietLimit = time.Minute

// lively ends a request whose answer stays silent.
type lively struct {
	io.Reader
	timer *time.Timer
}

func (l lively) Read(p []byte) (int, error) {
	n, err := l.Reader.Read(p)
	l.timer.Reset(quietLimit)
	return n, err
}

// Keys returns the keys that the query (q, kind, fingerprint, sort, order) chooses.
func (c *Client) Keys(ctx context.Context, query url.Values) ([]wire.Key, error) {
	return all[wire.Key](ctx, c, "/keys", query)
}

// Key returns one key by its name.
func (c *Client) Key(ctx context.Context, name string) (k wire.Key, err error) {
	return k, c.do(ctx, "GET", "/keys/"+url.PathEscape(name), nil, nil, &k)
}

// AddKey records a public half.
func (c *Client) AddKey(ctx context.Context, k wire.NewKey) (out wire.Key, err error) {
	return out, c.do(ctx, "POST", "/keys", nil, k, &out)
}

// ChangeKey changes what is recorded beside a key's public half.
func (c *Client) ChangeKey(ctx context.Context, name string, change wire.KeyChange) (k wire.Key, err error) {
	return k, c.do(ctx, "PATCH", "/keys/"+url.PathEscape(name), nil, change, &k)
}

// RetireKey takes a key out of new launches, or back into them.
func (c *Client) RetireKey(ctx context.Context, name string, retire bool) (k wire.Key, err error) {
	verb := "use-again"
	if retire {
		verb = "retire"
	}
	return k, c.do(ctx, "POST", "/keys/"+url.PathEscape(name)+"/"+verb, nil, nil, &k)
}

// ForgetKey takes a key out of the ledger.
func (c *Client) ForgetKey(ctx context.Context, name string) error {
	return c.do(ctx, "DELETE", "/keys/"+url.PathEscape(name), nil, nil, nil)
}

// Challenge asks for a text that the key's private half is to sign.
func (c *Client) Challenge(ctx context.Context, name string) (ch wire.Challenge, err error) {
	return ch, c.ChallengeFor(ctx, name, wire.ChallengeRequest{}, &ch)
}

// ChallengeFor asks for a challenge that names work and an instance.
func (c *Client) ChallengeFor(ctx context.Context, name string, r wire.ChallengeRequest, ch *wire.Challenge) error {
	return c.do(ctx, "POST", "/keys/"+url.PathEscape(name)+"/challenge", nil, r, ch)
}

// Prove answers a challenge.
func (c *Client) Prove(ctx context.Context, name string, p wire.Proof) (k wire.Key, err error) {
	return k, c.do(ctx, "POST", "/keys/"+url.PathEscape(name)+"/proof", nil, p, &k)
}

// Holders returns all holders.
func (c *Client) Holders(ctx context.Context) ([]wire.Holder, error) {
	return all[wire.Holder](ctx, c, "/holders", nil)
}

// AddHolder records a holder: a person, team, machine or job.
func (c *Client) AddHolder(ctx context.Context, name, sort string) error {
	return c.do(ctx, "POST", "/holders", nil, wire.Holder{Name: name, Sort: sort}, nil)
}

// Instances returns the instances that the query (q, region, image, state, key, sort, order) chooses.
func (c *Client) Instances(ctx context.Context, query url.Values) ([]wire.Instance, error) {
	return all[wire.Instance](ctx, c, "/instances", query)
}

// Instance returns one instance by its name, with its host keys and user data.
func (c *Client) Instance(ctx context.Context, name string) (i wire.Instance, err error) {
	return i, c.do(ctx, "GET", "/instances/"+url.PathEscape(name), nil, nil, &i)
}

// PlanLaunch tells what a launch would send, and changes nothing.
func (c *Client) PlanLaunch(ctx context.Context, l wire.Launch) (p wire.LaunchPlan, err error) {
	l.Plan = true
	return p, c.do(ctx, "POST", "/instances", nil, l, &p)
}

// Launch begins a launch.
func (c *Client) Launch(ctx context.Context, l wire.Launch) (i wire.Instance, err error) {
	return i, c.once(ctx, "POST", "/instances", l, &i)
}

// Change begins to "stop", "start", "remove" or "forget" an instance.
func (c *Client) Change(ctx context.Context, name, verb string) (i wire.Instance, err error) {
	switch verb {
	case "remove":
		return i, c.once(ctx, "DELETE", "/instances/"+url.PathEscape(name), nil, &i)
	case "forget":
		return i, c.once(ctx, "DELETE", "/instances/"+url.PathEscape(name)+"?forget=true", nil, &i)
	}
	return i, c.once(ctx, "POST", "/instances/"+url.PathEscape(name)+"/"+url.PathEscape(verb), nil, &i)
}

// Access returns the accesses of an instance, of a key, or all.
func (c *Client) Access(ctx context.Context, instance, key string) ([]wire.Access, error) {
	return c.AccessWhere(ctx, url.Values{"instance": {instance}, "key": {key}})
}

// AccessWhere returns the accesses that the query (instance, key, holder,
// region, tag, user, people) chooses.
func (c *Client) AccessWhere(ctx context.Context, query url.Values) ([]wire.Access, error) {
	return all[wire.Access](ctx, c, "/access", query)
}

// Uses returns who really came in, as the instances' own logs tell, by a query (instance, fingerprint): the last ones first.
func (c *Client) Uses(ctx context.Context, query url.Values) ([]wire.UsedRow, error) {
	return all[wire.UsedRow](ctx, c, "/uses", query)
}

// ReportLogin tells the service that a login with an access has succeeded.
func (c *Client) ReportLogin(ctx context.Context, id int64, r wire.LoginReport) error {
	return c.do(ctx, "POST", "/access/"+strconv.FormatInt(id, 10)+"/login", nil, r, nil)
}

// Regions returns the cloud's regions.
func (c *Client) Regions(ctx context.Context) ([]wire.Region, error) {
	return all[wire.Region](ctx, c, "/regions", nil)
}

// Images returns the cloud's images in a region, or all with "".
func (c *Client) Images(ctx context.Context, region string) ([]wire.Image, error) {
	return all[wire.Image](ctx, c, "/images", url.Values{"region": {region}})
}

// Sizes returns the cloud's sizes in a region, or all with "".
func (c *Client) Sizes(ctx context.Context, region string) ([]wire.Size, error) {
	return all[wire.Size](ctx, c, "/sizes", url.Values{"region": {region}})
}

// WhoAmI returns whose token it is.
func (c *Client) WhoAmI(ctx context.Context) (o wire.Operator, err error) {
	return o, c.do(ctx, "GET", "/session", nil, nil, &o)
}

// Operators returns all operators.
func (c *Client) Operators(ctx context.Context) ([]wire.Operator, error) {
	return all[wire.Operator](ctx, c, "/operators", nil)
}

// AddOperator adds an operator, with a public key by which it signs in, or none; then the answer has the
// password, this once.
func (c *Client) AddOperator(ctx context.Context, o wire.Operator) (out wire.Operator, err error) {
	return out, c.do(ctx, "POST", "/operators", nil, o, &out)
}

// ChangeOperator changes an operator's role or disables it.
func (c *Client) ChangeOperator(ctx context.Context, name string, change wire.OperatorChange) error {
	return c.do(ctx, "PATCH", "/operators/"+url.PathEscape(name), nil, change, nil)
}

// Tokens returns one's own tokens, or everybody's for an admin.
func (c *Client) Tokens(ctx context.Context) ([]wire.Token, error) {
	return all[wire.Token](ctx, c, "/tokens", nil)
}

// CreateToken makes a token; the answer has its text, this once.
func (c *Client) CreateToken(ctx context.Context, t wire.NewToken) (out wire.Token, err error) {
	return out, c.do(ctx, "POST", "/tokens", nil, t, &out)
}

// RevokeToken ends a token.
func (c *Client) RevokeToken(ctx context.Context, id int64) error {
	return c.do(ctx, "DELETE", "/tokens/"+strconv.FormatInt(id, 10), nil, nil, nil)
}

// Journal returns the newest entries, at most limit, of a target or of all.
func (c *Client) Journal(ctx context.Context, target string, limit int) ([]wire.JournalEntry, error) {
	var page wire.List[wire.JournalEntry]
	q := url.Values{"limit": {strconv.Itoa(limit)}}
	if target != "" {
		q.Set("target", target)
	}
	err := c.do(ctx, "GET", "/journal", q, nil, &page)
	return page.Items, err
}
