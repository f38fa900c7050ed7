package reach

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"plumlatch/core/comeback"
	"plumlatch/core/plaintext"
)

// unitLimit is how long a unit may take to start: systemd's own limit is 90 s (systemd-system.conf(5), DefaultTimeoutStartSec).
var unitLimit = 2 * time.Minute

// ErrUnit says that a name is none that a service could have.
var ErrUnit = errors.New("this is no name of a service")

// EnableUnit has systemd start a service now and at each boot from now on (systemctl(1), "enable --now"), by sudo without a
// password unless the login user is root. ErrUnit, before anything is asked for; else the error has what was said there.
func EnableUnit(ctx context.Context, client *Client, unit string) error {
	if !comeback.IsService(unit) {
		return ErrUnit
	}
	// systemd.unit(5) allows no quote in a name, so that quotes around it hold.
	command := fmt.Sprintf(`if [ "$(id -u)" = 0 ]; then systemctl enable --now '%[1]s'; else sudo -n systemctl enable --now '%[1]s'; fi`, unit)
	out, said := &bounded{limit: maxCapture}, &bounded{limit: maxCapture}
	err := client.run(ctx, command, unitLimit, out, said)
	if err == nil {
		return nil
	}
	if text := strings.TrimSpace(said.String()); text != "" {
		return fmt.Errorf("%s: %s", unit, plaintext.Line(plaintext.Cut(text, 200)))
	}
	return fmt.Errorf("%s: %w", unit, err)
}
