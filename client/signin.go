package client

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/url"
	"time"

	"plumlatch/core/signin"
	"plumlatch/core/wire"
)

// SignInByKey signs an operator in by a key (its SHA256 fingerprint). The statement that is given to
// sign is made here: of the address that was dialled, the certificate that was seen there, and the time;
// from the service comes one opaque word.
func (c *Client) SignInByKey(ctx context.Context, operator, key string,
	sign func(statement []byte) ([]byte, error)) (out wire.Session, err error) {
	ch, leaf, err := c.signinChallenge(ctx, wire.SigninRequest{Operator: operator, Key: key})
	if err != nil {
		return out, err
	}
	u, err := url.Parse(c.url)
	if err != nil {
		return out, ErrURL
	}
	s := signin.Statement{Service: u.Scheme + "://" + u.Host, Certificate: signin.NoCertificate, Operator: operator, Key: key,
		Challenge: ch.Challenge, At: time.Now().UTC().Truncate(time.Second)}
	if leaf != nil {
		s.Certificate = signin.Certificate(leaf)
	}
	text, err := s.Text()
	if err != nil {
		return out, errors.New("the service sent no challenge of the form that one has; nothing was signed")
	}
	signature, err := sign(text)
	if err != nil {
		return out, err
	}
	return out, c.do(ctx, "POST", "/session/key", nil, wire.SigninProof{Service: s.Service, Certificate: s.Certificate,
		Operator: s.Operator, Key: s.Key, Challenge: s.Challenge, At: s.At, Signature: string(signature)}, &out)
}

// signinChallenge asks for a challenge, and returns the certificate (DER) that the service showed; nil
// without TLS.
func (c *Client) signinChallenge(ctx context.Context, r wire.SigninRequest) (ch wire.SigninChallenge, leaf []byte,
	err error) {
	req, err := c.request(ctx, "POST", "/session/challenge", nil, "", r)
	if err != nil {
		return ch, nil, err
	}
	resp, err := c.http.Do(req)
	if err != nil {
		return ch, nil, &Unreachable{c.url, err}
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusCreated {
		return ch, nil, c.problem(resp)
	}
	if resp.TLS != nil && len(resp.TLS.PeerCertificates) > 0 {
		leaf = resp.TLS.PeerCertificates[0].Raw
	}
	data, err := io.ReadAll(io.LimitReader(resp.Body, 64<<10))
	if err != nil {
		return ch, nil, &Unreachable{c.url, err}
	}
	return ch, leaf, json.Unmarshal(data, &ch)
}

// SignInByPassword signs an operator in by its password.
func (c *Client) SignInByPassword(ctx context.Context, operator, password string) (out wire.Session, err error) {
	return out, c.do(ctx, "POST", "/session", nil, wire.Credentials{Operator: operator, Password: password, Token: true}, &out)
}

// SignOut ends the session that the client's token is of.
func (c *Client) SignOut(ctx context.Context) error {
	return c.do(ctx, "DELETE", "/session", nil, nil, nil)
}

// ConsoleCode returns a code that opens the console once, within a minute, from this machine.
func (c *Client) ConsoleCode(ctx context.Context) (out wire.ConsoleCode, err error) {
	return out, c.do(ctx, "POST", "/session/code", nil, nil, &out)
}

// OperatorKeys returns which keys sign for an operator.
func (c *Client) OperatorKeys(ctx context.Context, operator string) ([]wire.OperatorKey, error) {
	return all[wire.OperatorKey](ctx, c, "/operators/"+url.PathEscape(operator)+"/keys", nil)
}

// SetOperatorKey says what a key signs for an operator; neither takes it away.
func (c *Client) SetOperatorKey(ctx context.Context, operator, key string, use wire.OperatorKeyUse) (k wire.OperatorKey,
	err error) {
	path := "/operators/" + url.PathEscape(operator) + "/keys/" + url.PathEscape(key)
	if use == (wire.OperatorKeyUse{}) {
		return k, c.do(ctx, "DELETE", path, nil, nil, &k)
	}
	return k, c.do(ctx, "PUT", path, nil, use, &k)
}
