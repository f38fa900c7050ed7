package client

import (
	"context"
	"time"

	"plumlatch/core/agentcalls"
	"plumlatch/core/wire"
)

// Agent tells what is known of an instance's agent, and what one pins.
func (c *Client) Agent(ctx context.Context, instance string) (a wire.Agent, err error) {
	return a, c.do(ctx, "GET", instancePath(instance, "agent"), nil, nil, &a)
}

// EnrollAgent makes a key that of an instance's agent, in the place of a former one.
func (c *Client) EnrollAgent(ctx context.Context, instance, publicKey string) error {
	return c.do(ctx, "PUT", instancePath(instance, "agent"), nil, wire.AgentKey{PublicKey: publicKey}, nil)
}

// ForgetAgent ends what an instance's agent is known by.
func (c *Client) ForgetAgent(ctx context.Context, instance string) error {
	return c.do(ctx, "DELETE", instancePath(instance, "agent"), nil, nil, nil)
}

// AgentToken makes a token that enrolls an instance's agent once.
func (c *Client) AgentToken(ctx context.Context, instance string) (t wire.AgentToken, err error) {
	return t, c.do(ctx, "POST", instancePath(instance, "agent/token"), nil, nil, &t)
}

// AgentLook has an instance's agent look.
func (c *Client) AgentLook(ctx context.Context, instance string) (s wire.Survey, err error) {
	return s, c.patient().do(ctx, "POST", instancePath(instance, "agent/look"), nil, nil, &s)
}

// AgentUpgrade has an instance's agent take the program that the service offers.
func (c *Client) AgentUpgrade(ctx context.Context, instance string) (u wire.AgentUpgrade, err error) {
	return u, c.patient().do(ctx, "POST", instancePath(instance, "agent/upgrade"), nil, nil, &u)
}

// AgentCall has a signed request passed on, and returns the verb's own JSON.
func (c *Client) AgentCall(ctx context.Context, instance string, r agentcalls.Request, signature string) (string, error) {
	var out wire.AgentDone
	err := c.patient().do(ctx, "POST", instancePath(instance, "agent/call"), nil, wire.AgentCall{Request: r, Signature: signature}, &out)
	return out.Result, err
}

// patient waits as long as an agent may take for a call: a log of logins can have gigabytes.
func (c *Client) patient() *Client {
	waits, conn := *c, *c.http
	conn.Timeout = 15 * time.Minute
	waits.http = &conn
	return &waits
}
