package cloudconfig

import (
	"fmt"
	"strings"
)

// Agent is what first boot needs to enroll an instance's agent.
type Agent struct {
	Owner     string // the text of the owner's file
	Unit      string // the text of its unit of systemd
	Service   string // HOST:PORT that it dials
	Name      string // in the service's certificate
	Authority string // that made that, PEM
	Token     string
	SHA256    string // of the program, in hexadecimal; "" if the service has none to give
	Arch      string // of that program, as uname(1) says it: "x86_64"
	Release   string // the public key of releases, which the owner's file names; "" for none
}

// Where they lie until the agent is enrolled. The token is good once: what is left of it is of no use.
const (
	agentDir       = "/run/plumlatch-agent"
	AgentToken     = agentDir + "/token"
	AgentAuthority = agentDir + "/authority.pem"
)

// Into adds the agent to what first boot is to do. Paths of the agent's own are given by the caller, which knows them: owner, unit, program.
func (a Agent) Into(s *Settings, owner, unit, program string) {
	s.Files = append(s.Files, File{owner, "0644", a.Owner}, File{"/etc/systemd/system/" + unit, "0644", a.Unit}, File{AgentToken, "0600", a.Token + "\n"},
		File{AgentAuthority, "0644", a.Authority})
	s.Run = append(s.Run, a.script(unit, program))
}

// script fetches the program where the image has none, from the service whose authority is pinned and with the hash that it had at the launch, enrolls
// the agent and starts it. cloud-init is written in Python, so that is there.
func (a Agent) script(unit, program string) string {
	var s strings.Builder
	fmt.Fprintf(&s, "set -e\numask 077\np=%s\nd=%s\n", program, agentDir)
	s.WriteString("no() { echo \"plumlatch-agent: $*\" >&2; exit 1; }\n")
	if a.SHA256 == "" {
		s.WriteString("[ -x $p ] || no \"it is not on this image, and the service has none to give\"\n")
	} else {
		colon := strings.LastIndex(a.Service, ":")
		host, port := strings.Trim(a.Service[:max(colon, 0)], "[]"), a.Service[colon+1:]
		fmt.Fprintf(&s, `if [ ! -x $p ]; then
  [ "$(uname -s) $(uname -m)" = "Linux %[1]s" ] || no "the service has a program for %[1]s, and this is $(uname -m)"
  for n in 1 2 3 4; do # others may be fetching it
    [ $n = 1 ] || sleep 3
    rm -f $p.new
    python3 - >$p.new <<'E' && break
import http.client, shutil, socket, ssl, sys
c = http.client.HTTPSConnection(%[2]q)
c.sock = ssl.create_default_context(cafile=%[3]q).wrap_socket(socket.create_connection((%[4]q, %[5]s), 60), server_hostname=%[2]q)
c.request("GET", "/agent/program")
r = c.getresponse()
if r.status != 200: sys.exit("the service answered %%d" %% r.status)
shutil.copyfileobj(r, sys.stdout.buffer)
E
    [ $n != 4 ] || no "it could not be fetched"
  done
  [ "$(sha256sum <$p.new)" = "%[6]s  -" ] || no "what came is not the program"
  chmod 755 $p.new
  mv $p.new $p
fi
`, a.Arch, a.Name, AgentAuthority, host, port, a.SHA256)
	}
	fmt.Fprintf(&s, "$p enroll -token-file %s -authority %s\nrm -rf $d\nsystemctl daemon-reload\nsystemctl enable %[3]s\nsystemctl restart %[3]s\n", AgentToken, AgentAuthority, unit)
	return s.String()
}
