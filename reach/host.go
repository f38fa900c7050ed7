package reach

import (
	"context"
	"io"
	"strings"
	"time"
)

// Host is a machine on which commands of ours are run: over an engineer's connection (Client), or by the agent on the machine itself
// (Here). What is looked at and changed from within is written once, for both.
type Host interface {
	// output runs a command with in as its standard input, and has take read what it prints: at most for limit, and at most size bytes of it.
	output(ctx context.Context, command string, in io.Reader, limit time.Duration, size int64, take func(io.Reader) error) error
	// sudoFiles opens the files as root, by a command that speaks SFTP.
	sudoFiles(command string) (Files, io.Closer, error)
	// servers is a function of sh(1) that prints the processes among which the SSH server is; the last one that is sshd's is its listener.
	servers() string
}

// A session of an engineer's has the server among its ancestors.
const ancestors = `servers() {
  p=$$
  while [ -n "$p" ] && [ "$p" -gt 1 ]; do
    echo "$p"
    p=$(sed -n 's/^PPid:[[:space:]]*//p' "/proc/$p/status" 2>/dev/null)
  done
}
`

func (c *Client) servers() string { return ancestors }

func (c *Client) sudoFiles(command string) (Files, io.Closer, error) { return OverCommand(c, command) }

func (c *Client) output(ctx context.Context, command string, in io.Reader, limit time.Duration, size int64, take func(io.Reader) error) error {
	return c.within(ctx, limit, size, func() error {
		session, err := c.NewSession()
		if err != nil {
			return err
		}
		defer session.Close()
		session.Stdin = in
		text, err := session.StdoutPipe()
		if err != nil {
			return err
		}
		if err := session.Start(command); err != nil {
			return err
		}
		if err := take(io.LimitReader(text, size)); err != nil {
			return err
		}
		return session.Wait()
	})
}

// capture runs a command and returns what it printed, bounded in time and size.
func capture(ctx context.Context, host Host, command string) (string, error) {
	return captureFor(ctx, host, command, nil, lookLimit, maxCapture)
}

// withInput runs a command with a text on its standard input.
func withInput(ctx context.Context, host Host, command, text string) (string, error) {
	return captureFor(ctx, host, command, strings.NewReader(text), scriptLimit, maxCapture)
}

func captureFor(ctx context.Context, host Host, command string, in io.Reader, limit time.Duration, size int) (string, error) {
	out := &bounded{limit: size}
	err := host.output(ctx, command, in, limit, int64(size)+1, func(text io.Reader) error {
		_, err := io.Copy(out, text)
		return err
	})
	return out.String(), err
}
