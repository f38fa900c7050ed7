package e2e

import (
	"encoding/base64"
	"strings"
	"testing"
	"time"

	"plumlatch/core/wire"
)

// hostileAgent takes the place of QEMU's guest agent on a machine, and speaks its protocol (QEMU's docs/interop/qemu-ga-ref.rst) in a way of its own.
const hostileAgent = `
import json, os, sys, time
how = sys.argv[1]
port = os.open('/dev/virtio-ports/org.qemu.guest_agent.0', os.O_RDWR)
def say(text):
    while text:
        text = text[os.write(port, text):]
def answer(value):
    say(json.dumps({'return': value}).encode() + b'\n')
rest = b''
while True:
    try:
        got = os.read(port, 4096)
    except OSError:
        got = b''
    if not got:
        time.sleep(0.1)
        continue
    *lines, rest = (rest + got.replace(b'\xff', b'')).split(b'\n')
    for line in lines:
        try:
            asked = json.loads(line)
        except ValueError:
            continue
        call, given = asked.get('execute'), asked.get('arguments', {})
        if call == 'guest-sync-delimited':
            say(b'\xff')
            answer(given['id'])
        elif call == 'guest-sync':
            answer(given['id'])
        elif how == 'silent':
            pass
        elif how == 'garbage':
            say(b'}{ \x1b[31m this is no answer\n')
        elif how == 'flood':
            for _ in range(4000):
                say(b'x' * 65536)
        elif call == 'guest-info':
            answer({'version': '7', 'supported_commands': [{'name': 'guest-exec', 'enabled': True, 'success-response': True}]})
        elif call == 'guest-exec':
            answer({'pid': 1})
        elif call == 'guest-exec-status' and how == 'slow':
            answer({'exited': False})
        elif call == 'guest-exec-status' and how == 'words':
            answer({'exited': True, 'exitcode': 9, 'out-data': '` + "G1szMW1ydW4gYXMgcm9vdDogcm0gLXJmIC8KG1syShtdMDt0aXRsZQc=" + `'})
        elif call == 'guest-exec-status':
            answer({'exited': True, 'exitcode': 0, 'out-data': ''})
        else:
            answer({})
`

// TestVMHostileAgent: a machine's guest agent is the machine's, and may be hostile. Whatever it does, a restore by it ends within minutes, says what was wrong
// in plain words, and leaves everything as it was; an agent that only says that it has added the key is found out, as the server is asked.
func TestVMHostileAgent(t *testing.T) {
	b := startVMs(t, 168, "debian-12").launchBoard(t, "wreck-board", "debian-12")
	key := b.file(b.key)
	ssh := func(command string) {
		t.Helper()
		if out, ok := b.realSSH(t, b.instance(t, b.name), key, command); !ok {
			t.Fatalf("%s: %s", command, out)
		}
	}
	ssh("sudo systemctl disable --now qemu-guest-agent; sudo systemctl stop qemu-guest-agent; echo " + base64.StdEncoding.EncodeToString([]byte(hostileAgent)) +
		" | base64 -d | sudo tee /root/hostile.py >/dev/null; cp .ssh/authorized_keys before")
	b.must(t, "key", "lost", b.key) // its file stays here, to look with
	for _, c := range []struct{ how, says string }{
		{"silent", "does not answer"}, {"garbage", "guest agent"}, {"flood", "guest agent"}, {"slow", "takes more than 16s"},
		{"words", "could not add the line (9)"}, {"lies", "does not take"},
	} {
		ssh("sudo systemctl reset-failed; sudo systemctl stop hostile; sudo systemd-run --unit hostile python3 /root/hostile.py " + c.how)
		next := b.fresh(t)
		began := time.Now()
		r := b.client(t, "", "restore", b.name, "-route", "cloud-agent", "-new", next, "-dir", b.keys, "-yes")
		if r.code == 0 || !strings.Contains(r.err, c.says) || strings.ContainsAny(r.err+r.out, "\x1b\a") || time.Since(began) > 8*time.Minute {
			t.Errorf("%s, after %s: %+v", c.how, time.Since(began), r)
		}
		id := lastRestore(t, b.demo, b.name)
		b.until(t, id, "ends", func(w wire.Work) bool { return w.Over() })
		t.Logf("%s: after %s: %s", c.how, time.Since(began).Round(time.Second), b.workByID(t, id).Outcome)
		ssh("cmp .ssh/authorized_keys before")
	}
	next := b.fresh(t)
	b.must(t, "restore", b.name, "-route", "steward", "-new", next, "-dir", b.keys, "-yes")
	b.opens(t, next)
	b.shut(t, key)
	b.gone(t)
}
