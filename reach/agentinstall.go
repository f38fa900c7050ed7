package reach

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"

	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
)

// Where an agent is on an instance.
const (
	AgentProgram = "/usr/local/sbin/plumlatch-agent"
	AgentOwner   = "/etc/plumlatch-agent.yaml"
	AgentPublic  = "/etc/plumlatch-agent.pub"
	AgentState   = "/var/lib/plumlatch-agent"
	AgentUnit    = "plumlatch-agent.service"
)

// AgentUnitText keeps the agent from all that it does not need (systemd.exec(5)). It writes homes, /etc and /var, as the verbs do: so those stay
// open to it. It makes users and becomes them, so it has what that takes, and no other capability.
const AgentUnitText = `[Unit]
Description=Plum Latch agent
Wants=network-online.target
After=network-online.target cloud-init-local.service

[Service]
ExecStart=` + AgentProgram + ` run
Restart=always
RestartSec=15
RestartPreventExitStatus=78
MemoryMax=256M
TasksMax=256
NoNewPrivileges=yes
ProtectSystem=yes
ReadWritePaths=-/usr/local/sbin
PrivateTmp=yes
PrivateDevices=yes
ProtectClock=yes
ProtectControlGroups=yes
ProtectHostname=yes
ProtectKernelLogs=yes
ProtectKernelModules=yes
ProtectKernelTunables=yes
LockPersonality=yes
MemoryDenyWriteExecute=yes
RestrictNamespaces=yes
RestrictRealtime=yes
RestrictSUIDSGID=yes
RestrictAddressFamilies=AF_UNIX AF_INET AF_INET6 AF_NETLINK
SystemCallArchitectures=native
CapabilityBoundingSet=CAP_CHOWN CAP_DAC_OVERRIDE CAP_DAC_READ_SEARCH CAP_FOWNER CAP_FSETID CAP_KILL CAP_SETUID CAP_SETGID CAP_SYS_PTRACE CAP_AUDIT_WRITE

[Install]
WantedBy=multi-user.target
`

// AgentParts is what is put on an instance.
type AgentParts struct {
	Program   []byte // the executable
	Owner     string // the owner's file; one that is there stays
	Authority string // of the service, PEM
	Instance  int64
}

// uploadLimit is how long the program may take to be sent.
const uploadLimit = 15 * time.Minute

// InstallAgent puts the agent on an instance in a session with sudo, has it make its key, and returns the public half as it reads it there,
// and whether an owner's file was there already. It is not started: nobody knows its key yet. ErrNoSudo, ErrRefused.
func InstallAgent(ctx context.Context, host Host, p AgentParts) (public string, owned bool, err error) {
	prefix, err := rootPrefix(ctx, host)
	if err != nil {
		return "", false, err
	}
	text, err := asRoot(ctx, host, prefix, `[ -d /run/systemd/system ] || { echo "plumlatch-refused it has no systemd, which would run the agent"; exit 0; }
uname -sm; echo "plumlatch-done"`)
	if _, err := answer(text, err); err != nil {
		return "", false, err
	}
	upload := prefix + "sh -c " + shellQuote("umask 022; mkdir -p /usr/local/sbin && cat >"+AgentProgram+".new && chmod 755 "+AgentProgram+".new && sha256sum <"+AgentProgram+".new")
	text, err = captureFor(ctx, host, upload, bytes.NewReader(p.Program), uploadLimit, maxCapture)
	sum := sha256.Sum256(p.Program)
	if said, _, _ := strings.Cut(strings.TrimSpace(text), " "); err != nil || said != hex.EncodeToString(sum[:]) {
		_, clean := asRoot(ctx, host, prefix, "rm -f "+AgentProgram+".new")
		return "", false, errors.Join(fmt.Errorf("%w: the program did not arrive as it was sent", ErrRefused), err, clean)
	}
	script := fmt.Sprintf(`umask 022
put() { cat >"$1.new" && mv -f "$1.new" "$1"; }
systemctl stop %[1]s >/dev/null 2>&1
mv -f %[2]s.new %[2]s || { echo "plumlatch-refused %[2]s cannot be written"; exit 0; }
printf %%s %[3]s | put /etc/systemd/system/%[1]s || { echo "plumlatch-refused its unit cannot be written"; exit 0; }
if [ -e %[4]s ]; then echo owned; else printf %%s %[5]s | put %[4]s || { echo "plumlatch-refused %[4]s cannot be written"; exit 0; }; fi
%[2]s check >/dev/null 2>/tmp/plumlatch-agent.$$ || { echo "plumlatch-refused $(head -n 1 /tmp/plumlatch-agent.$$ | cut -c 1-250)"; rm -f /tmp/plumlatch-agent.$$; exit 0; }
key=$(printf %%s %[6]s | %[2]s enroll -instance %[7]d 2>/tmp/plumlatch-agent.$$) || { echo "plumlatch-refused $(head -n 1 /tmp/plumlatch-agent.$$ | cut -c 1-250)"; rm -f /tmp/plumlatch-agent.$$; exit 0; }
rm -f /tmp/plumlatch-agent.$$
echo "key $key"
echo plumlatch-done
`, AgentUnit, AgentProgram, shellQuote(AgentUnitText), AgentOwner, shellQuote(p.Owner), shellQuote(p.Authority), p.Instance)
	text, err = asRoot(ctx, host, prefix, strings.ReplaceAll(script, "/tmp/plumlatch-agent.$$", "/run/plumlatch-agent.said"))
	if _, err := answer(text, err); err != nil {
		return "", false, err
	}
	for line := range strings.Lines(text) {
		if strings.TrimSpace(line) == "owned" {
			owned = true
		}
		if key, ok := strings.CutPrefix(strings.TrimSpace(line), "key "); ok {
			public = key
		}
	}
	k, err := keypair.ReadPublic([]byte(public))
	if err != nil {
		return "", owned, fmt.Errorf("%w: the key that it made there cannot be read", ErrRefused)
	}
	return keypair.Public{Blob: k.Blob, Comment: "plumlatch agent"}.Line(), owned, nil
}

// StartAgent has systemd start it, now and at each boot.
func StartAgent(ctx context.Context, host Host) error {
	prefix, err := rootPrefix(ctx, host)
	if err != nil {
		return err
	}
	text, err := asRoot(ctx, host, prefix, `systemctl daemon-reload && systemctl enable `+AgentUnit+` >/dev/null 2>&1 && systemctl restart `+AgentUnit+` ||
{ echo "plumlatch-refused systemd does not start it: systemctl status `+AgentUnit+` says why"; exit 0; }
echo plumlatch-done`)
	_, err = answer(text, err)
	return err
}

// AgentOwnerText is the owner's file as it stands on an instance; "" if there is none.
func AgentOwnerText(ctx context.Context, host Host) (string, error) {
	prefix, err := rootPrefix(ctx, host)
	if err != nil {
		return "", err
	}
	text, err := asRoot(ctx, host, prefix, "head -c 65536 "+AgentOwner+" 2>/dev/null; echo plumlatch-end")
	out, _, ok := strings.Cut(text, "plumlatch-end")
	if !ok {
		return "", fmt.Errorf("%s could not be read: %w", AgentOwner, err)
	}
	return plaintext.Lines(out), nil
}

// RemoveAgent ends the agent and takes all of it away: program, unit, the owner's file, key and pins. ErrNoSudo, ErrRefused if something is
// left.
func RemoveAgent(ctx context.Context, host Host) error {
	prefix, err := rootPrefix(ctx, host)
	if err != nil {
		return err
	}
	text, err := asRoot(ctx, host, prefix, fmt.Sprintf(`systemctl disable --now %[1]s >/dev/null 2>&1
systemctl stop %[1]s >/dev/null 2>&1
rm -rf %[2]s %[2]s.new /etc/systemd/system/%[1]s %[3]s %[4]s %[5]s
systemctl daemon-reload >/dev/null 2>&1
for f in %[2]s /etc/systemd/system/%[1]s %[3]s %[4]s %[5]s; do [ ! -e $f ] || { echo "plumlatch-refused $f is there still"; exit 0; }; done
! systemctl is-active --quiet %[1]s || { echo "plumlatch-refused it runs still"; exit 0; }
echo plumlatch-done`, AgentUnit, AgentProgram, AgentOwner, AgentState, AgentPublic))
	_, err = answer(text, err)
	return err
}

// AgentKeyThere reads the public half of the agent's key on an instance, in anybody's session: root alone can write it. ErrRefused if there is
// none.
func AgentKeyThere(ctx context.Context, host Host) (keypair.Public, error) {
	text, err := capture(ctx, host, "cat "+AgentPublic)
	if err != nil {
		return keypair.Public{}, fmt.Errorf("%w: it has no %s, so no agent, or one of an older version", ErrRefused, AgentPublic)
	}
	k, err := keypair.ReadPublic([]byte(strings.TrimSpace(text)))
	if err != nil {
		return keypair.Public{}, fmt.Errorf("%w: what stands in its %s is no public key", ErrRefused, AgentPublic)
	}
	return k, nil
}
