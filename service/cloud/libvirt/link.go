package libvirt

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"time"

	rpc "github.com/digitalocean/go-libvirt"

	"plumlatch/core/plaintext"
	"plumlatch/service/cloud"
)

// The package that speaks libvirt's protocol is met in this file alone. Its calls take no context, and one that libvirtd does
// not answer never returns: so each change and each question has a connection of its own, which is closed when its context
// ends.

// reachLimit bounds the opening of a connection to a socket of this machine.
const reachLimit = 5 * time.Second

// link is a connection to one libvirtd, for as long as one call of the driver takes.
type link struct {
	v    *rpc.Libvirt
	pool rpc.StoragePool
	// agentUntil is when what a machine's guest agent is asked for has to be done; zero for no such end.
	agentUntil time.Time
}

type dialer struct {
	ctx    context.Context
	socket string

	mu   sync.Mutex
	conn net.Conn
	over bool
}

// Dial is what the package asks for its connection.
func (d *dialer) Dial() (net.Conn, error) {
	c, err := (&net.Dialer{Timeout: reachLimit}).DialContext(d.ctx, "unix", d.socket)
	if err != nil {
		return nil, err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.over {
		c.Close()
		return nil, net.ErrClosed
	}
	d.conn = c
	return &framed{Conn: c}, nil
}

func (d *dialer) end() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.over = true
	if d.conn != nil {
		d.conn.Close()
	}
}

// with opens a connection to a host, and calls f with it. What libvirt says is an error of package cloud.
func with(ctx context.Context, h Host, f func(*link) error) error {
	if err := ctx.Err(); err != nil {
		return fmt.Errorf("%w: %w", cloud.ErrFailed, err)
	}
	d := &dialer{ctx: ctx, socket: h.Socket}
	stop := context.AfterFunc(ctx, d.end)
	defer stop()
	done := make(chan error, 1)
	go func() { // what hangs ends when the connection is closed
		done <- func() (err error) {
			defer func() { // the package reads what a stranger wrote
				if x := recover(); x != nil {
					err = fmt.Errorf("%w: %v", errPacket, x)
				}
			}()
			v := rpc.NewWithDialer(d)
			if err := v.ConnectToURI(rpc.ConnectURI(h.URI)); err != nil {
				return err
			}
			defer d.end()
			pool, err := v.StoragePoolLookupByName(h.Pool)
			if err != nil {
				return fmt.Errorf("pool %s: %w", h.Pool, err)
			}
			return f(&link{v: v, pool: pool})
		}()
	}()
	select {
	case err := <-done:
		if err != nil && ctx.Err() != nil {
			return fmt.Errorf("%w: libvirt: %w", cloud.ErrFailed, ctx.Err())
		}
		return told(err)
	case <-ctx.Done():
		d.end()
		select {
		case <-done: // a call on a closed connection returns at once, and what f writes to is its caller's again
		case <-time.After(reachLimit): // unless the package itself stands still: it never goes on, and writes nothing
		}
		return fmt.Errorf("%w: libvirt: %w", cloud.ErrFailed, ctx.Err())
	}
}

// told has what libvirt says be an error of package cloud. A connection that was lost is no answer.
func told(err error) error {
	var e rpc.Error
	switch {
	case err == nil, errors.Is(err, cloud.ErrNotFound), errors.Is(err, cloud.ErrRefused), errors.Is(err, cloud.ErrFailed):
		return err
	case !errors.As(err, &e):
		return fmt.Errorf("%w: libvirt: %s", cloud.ErrFailed, plaintext.Line(plaintext.Cut(err.Error(), 200)))
	}
	said := plaintext.Line(ends(strings.TrimSpace(e.Message)))
	switch rpc.ErrorNumber(e.Code) {
	case rpc.ErrNoDomain, rpc.ErrNoStorageVol, rpc.ErrNoNwfilter, rpc.ErrNoNetwork:
		return fmt.Errorf("%w: %s", cloud.ErrNotFound, said)
	case rpc.ErrOperationInvalid, rpc.ErrOperationDenied, rpc.ErrOperationUnsupported, rpc.ErrInvalidArg, rpc.ErrXMLError, rpc.ErrConfigUnsupported,
		rpc.ErrXMLDetail, rpc.ErrAuthFailed, rpc.ErrAuthUnavailable, rpc.ErrAccessDenied:
		return fmt.Errorf("%w: libvirt: %s", cloud.ErrRefused, said)
	}
	return fmt.Errorf("%w: libvirt: %s", cloud.ErrFailed, said)
}

// ends is what libvirt says, without the middle of what is long: a program's whole command stands there, and behind it why that failed.
func ends(said string) string {
	const head, tail = 80, 220
	if len(said) <= head+tail {
		return said
	}
	return strings.ToValidUTF8(said[:head]+" ... "+said[len(said)-tail:], "")
}

// domain is a domain as libvirt has it: one of ours or not.
type domain struct {
	d       rpc.Domain
	xml     string // its definition
	live    string // as it runs; "" if it does not
	state   rpc.DomainState
	paused  bool
	running bool // its processor has power
}

func (l *link) lookup(id string) (domain, error) {
	raw, err := hex.DecodeString(strings.ReplaceAll(id, "-", ""))
	if err != nil || len(raw) != rpc.UUIDBuflen {
		return domain{}, cloud.ErrNotFound
	}
	d, err := l.v.DomainLookupByUUID(rpc.UUID(raw))
	if err != nil {
		return domain{}, told(err)
	}
	return l.read(d)
}

func (l *link) read(d rpc.Domain) (out domain, err error) {
	out.d = d
	state, _, err := l.v.DomainGetState(d, 0)
	if err != nil {
		return out, err
	}
	out.state = rpc.DomainState(state)
	out.paused = out.state == rpc.DomainPaused
	out.running = out.state == rpc.DomainRunning || out.state == rpc.DomainBlocked || out.state == rpc.DomainPaused || out.state == rpc.DomainShutdown ||
		out.state == rpc.DomainPmsuspended
	if out.xml, err = l.v.DomainGetXMLDesc(d, rpc.DomainXMLInactive); err != nil {
		return out, err
	}
	if out.running {
		out.live, err = l.v.DomainGetXMLDesc(d, 0)
	}
	return out, err
}

// domains are all domains of the host.
func (l *link) domains() (out []domain, err error) {
	all, _, err := l.v.ConnectListAllDomains(1, rpc.ConnectListDomainsActive|rpc.ConnectListDomainsInactive)
	if err != nil {
		return nil, err
	}
	for _, d := range all {
		x, err := l.read(d)
		if errors.Is(told(err), cloud.ErrNotFound) { // gone meanwhile
			continue
		}
		if err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, nil
}

func (l *link) define(xml string) error {
	_, err := l.v.DomainDefineXMLFlags(xml, rpc.DomainDefineValidate)
	return err
}

func (l *link) create(d domain) error { return l.v.DomainCreate(d.d) }

// askToStop presses the machine's power button.
func (l *link) askToStop(d domain) error { return l.v.DomainShutdownFlags(d.d, 0) }

// cut takes the machine's power away.
func (l *link) cut(d domain) error {
	err := l.v.DomainDestroyFlags(d.d, 0)
	var e rpc.Error
	if errors.As(err, &e) && rpc.ErrorNumber(e.Code) == rpc.ErrOperationInvalid { // it has none already
		return nil
	}
	return err
}

func (l *link) undefine(d domain) error {
	return l.v.DomainUndefineFlags(d.d, rpc.DomainUndefineManagedSave|rpc.DomainUndefineSnapshotsMetadata|rpc.DomainUndefineNvram|
		rpc.DomainUndefineCheckpointsMetadata)
}

// keep keeps what the driver knows of a domain with it.
func (l *link) keep(d domain, text string) error {
	flags := rpc.DomainAffectConfig
	if d.running {
		flags |= rpc.DomainAffectLive
	}
	return l.v.DomainSetMetadata(d.d, int32(rpc.DomainMetadataElement), rpc.OptString{text}, rpc.OptString{"pl"}, rpc.OptString{namespace}, flags)
}

// attach gives a domain a device, and detach takes one away: while it runs in the machine alone, else in its definition.
func (l *link) attach(d domain, xml string) error {
	return l.v.DomainAttachDeviceFlags(d.d, xml, uint32(affect(d)))
}

func (l *link) detach(d domain, xml string) error {
	return l.v.DomainDetachDeviceFlags(d.d, xml, uint32(affect(d)))
}

func affect(d domain) rpc.DomainModificationImpact {
	if d.running {
		return rpc.DomainAffectLive
	}
	return rpc.DomainAffectConfig
}

// monitor has QEMU carry out one of its commands for people. It answers success for one that failed, with words.
func (l *link) monitor(d domain, command string) (string, error) {
	const human = 1 // VIR_DOMAIN_QEMU_MONITOR_COMMAND_HMP
	return l.v.QEMUDomainMonitorCommand(d.d, command, human)
}

// volume is a volume of the pool: its path, and its size in bytes. ErrNotFound.
func (l *link) volume(name string) (path string, bytes uint64, err error) {
	v, err := l.v.StorageVolLookupByName(l.pool, name)
	if err != nil {
		return "", 0, told(err)
	}
	_, size, _, err := l.v.StorageVolGetInfo(v)
	if err != nil {
		return "", 0, told(err)
	}
	path, err = l.v.StorageVolGetPath(v)
	return path, size, err
}

// makeVolume makes a volume; one of the name that is there is returned with made false.
func (l *link) makeVolume(name, xml string) (made bool, err error) {
	_, err = l.v.StorageVolCreateXML(l.pool, xml, 0)
	var e rpc.Error
	if errors.As(err, &e) && rpc.ErrorNumber(e.Code) == rpc.ErrStorageVolExist {
		return false, nil
	}
	if err != nil {
		return false, fmt.Errorf("volume %s: %w", name, err)
	}
	return true, nil
}

func (l *link) fill(name string, data []byte) error {
	v, err := l.v.StorageVolLookupByName(l.pool, name)
	if err != nil {
		return err
	}
	return l.v.StorageVolUpload(v, bytes.NewReader(data), 0, uint64(len(data)), 0)
}

// removeVolume removes a volume; one that is gone is no error.
func (l *link) removeVolume(name string) error {
	v, err := l.v.StorageVolLookupByName(l.pool, name)
	if err == nil {
		err = l.v.StorageVolDelete(v, 0)
	}
	if errors.Is(told(err), cloud.ErrNotFound) {
		return nil
	}
	return err
}

// cloneVolume makes a volume with what another holds; nothing of the other is needed afterwards.
func (l *link) cloneVolume(xml, from string) error {
	v, err := l.v.StorageVolLookupByName(l.pool, from)
	if err == nil {
		_, err = l.v.StorageVolCreateXMLFrom(l.pool, xml, v, 0)
	}
	return err
}

// volumes are the names of the pool's volumes.
func (l *link) volumes() (out []string, err error) {
	all, _, err := l.v.StoragePoolListAllVolumes(l.pool, 1, 0)
	for _, v := range all {
		out = append(out, v.Name)
	}
	return out, err
}

// guest has a machine's guest agent carry out a command, in JSON.
func (l *link) guest(d domain, command string) (string, error) {
	limit, err := l.agentLeft()
	if err != nil {
		return "", err
	}
	answer, err := l.v.QEMUDomainAgentCommand(d.d, command, limit, 0)
	if err != nil || len(answer) == 0 {
		return "", agentSaid(err)
	}
	return answer[0], nil
}

// agentSaid has it be a refusal that no agent answers: asking once more is of no use.
func agentSaid(err error) error {
	var e rpc.Error
	if !errors.As(err, &e) {
		return err
	}
	switch rpc.ErrorNumber(e.Code) {
	case rpc.ErrAgentUnresponsive, rpc.ErrAgentUnsynced, rpc.ErrAgentCommandTimeout:
		return refused("the machine's guest agent does not answer: it is not there, or it does not run")
	case rpc.ErrAgentCommandFailed:
		return refused("the machine's guest agent refuses: %s", plaintext.Line(plaintext.Cut(e.Message, 200)))
	}
	return err
}

// guestKeys are the lines of a user's file of keys, without comments, as the guest agent says. None for no file.
func (l *link) guestKeys(d domain, user string) ([]string, error) {
	if err := l.agentWithin(d); err != nil {
		return nil, err
	}
	out, err := l.v.DomainAuthorizedSshKeysGet(d.d, user, 0)
	return out, agentSaid(err)
}

// addGuestKeys has the guest agent add lines to it, and dropGuestKeys take lines out.
func (l *link) addGuestKeys(d domain, user string, lines []string) error {
	if err := l.agentWithin(d); err != nil {
		return err
	}
	return agentSaid(l.v.DomainAuthorizedSshKeysSet(d.d, user, lines, uint32(rpc.DomainAuthorizedSSHKeysSetAppend)))
}

func (l *link) dropGuestKeys(d domain, user string, lines []string) error {
	if err := l.agentWithin(d); err != nil {
		return err
	}
	return agentSaid(l.v.DomainAuthorizedSshKeysSet(d.d, user, lines, uint32(rpc.DomainAuthorizedSSHKeysSetRemove)))
}

// agentLimit is how long the guest agent may take for an answer, in seconds: it is the machine's, and may be hostile.
const agentLimit = 10

// agentBudget is how long all that it is asked for may take together: less than a call to this cloud may take, so that an agent that takes its time has refused, and
// libvirt is not taken for silent.
const agentBudget = 16 * time.Second

// agentLeft is how long the guest agent may take for its next answer, in seconds.
func (l *link) agentLeft() (int32, error) {
	if l.agentUntil.IsZero() {
		return agentLimit, nil
	}
	left := int32(time.Until(l.agentUntil) / time.Second)
	if left < 1 {
		return 0, refused("the machine's guest agent takes more than %s", agentBudget)
	}
	return min(left, agentLimit), nil
}

// agentWithin bounds the calls of libvirt's that ask the guest agent themselves; an old libvirt cannot.
func (l *link) agentWithin(d domain) error {
	limit, err := l.agentLeft()
	if err == nil {
		_, _ = l.v.DomainAgentSetResponseTimeout(d.d, limit, 0)
	}
	return err
}

// backup writes what a running machine has on a disk at one moment into a file, which stands already. Its file systems are held still for
// that moment, if its guest agent does that; libvirt answers at once if no agent is there.
func (l *link) backup(ctx context.Context, d domain, xml string) error {
	_, _ = l.v.DomainAgentSetResponseTimeout(d.d, agentLimit, 0) // an old libvirt has no such call
	_, still := l.v.DomainFsfreeze(d.d, nil, 0)
	err := l.v.DomainBackupBegin(d.d, xml, nil, rpc.DomainBackupBeginReuseExternal)
	if still == nil {
		if _, thaw := l.v.DomainFsthaw(d.d, nil, 0); thaw != nil {
			_, thaw = l.v.DomainFsthaw(d.d, nil, 0)
			err = errors.Join(err, thaw)
		}
	}
	for err == nil {
		var kind int32
		if kind, _, _, _, _, _, _, _, _, _, _, _, err = l.v.DomainGetJobInfo(d.d); err != nil || rpc.DomainJobType(kind) == rpc.DomainJobNone {
			break
		}
		select {
		case <-ctx.Done():
			err = errors.Join(ctx.Err(), l.v.DomainAbortJob(d.d))
		case <-time.After(200 * time.Millisecond):
		}
	}
	if err != nil {
		return err
	}
	kind, _, err := l.v.DomainGetJobStats(d.d, rpc.DomainJobStatsCompleted)
	if err == nil && rpc.DomainJobType(kind) != rpc.DomainJobCompleted {
		err = errors.New("the machine's disk was not written out to its end")
	}
	return err
}

// endBackup ends what an earlier backup into a volume of ours has left going; one of somebody else's goes on.
func (l *link) endBackup(d domain, volume string) error {
	text, err := l.v.DomainBackupGetXMLDesc(d.d, 0)
	if err != nil || !strings.Contains(text, "/"+volume) {
		return nil // there is none
	}
	return l.v.DomainAbortJob(d.d)
}

// network has a network of libvirt be there and up, by the definition that the driver makes; its UUID tells that it is ours.
func (l *link) network(name, uuid, xml string) (defined string, err error) {
	n, err := l.v.NetworkLookupByName(name)
	if errors.Is(told(err), cloud.ErrNotFound) {
		if n, err = l.v.NetworkDefineXML(xml); err == nil {
			err = l.v.NetworkSetAutostart(n, 1)
		}
	}
	if err != nil {
		return "", err
	}
	if hex.EncodeToString(n.UUID[:]) != strings.ReplaceAll(uuid, "-", "") {
		return "", refused("the network %s is somebody else's", name)
	}
	if defined, err = l.v.NetworkGetXMLDesc(n, 0); err != nil {
		return "", err
	}
	if up, err := l.v.NetworkIsActive(n); err != nil || up == 1 {
		return defined, err
	}
	return defined, l.v.NetworkCreate(n)
}

// filter is the definition of a filter. ErrNotFound.
func (l *link) filter(name string) (string, error) {
	f, err := l.v.NwfilterLookupByName(name)
	if err != nil {
		return "", told(err)
	}
	return l.v.NwfilterGetXMLDesc(f, 0)
}

// setFilter gives a filter another definition, which holds at once for the machines that have it.
func (l *link) setFilter(xml string) error {
	_, err := l.v.NwfilterDefineXML(xml)
	return err
}

// dropFilter removes a filter; one that is gone is no error.
func (l *link) dropFilter(name string) error {
	f, err := l.v.NwfilterLookupByName(name)
	if err == nil {
		err = l.v.NwfilterUndefine(f)
	}
	if errors.Is(told(err), cloud.ErrNotFound) {
		return nil
	}
	return err
}

// refresh has the pool be read anew: a file that a machine has made is not in its list of volumes else.
func (l *link) refresh() error { return l.v.StoragePoolRefresh(l.pool, 0) }

func (l *link) capabilities() (string, error) { return l.v.ConnectGetCapabilities() }

// idOf is the ID of the instance that a launch with a client token makes: a UUID (RFC 9562, version 8) that the token decides,
// so that the same token never makes two.
func idOf(token string) string { return uuidOf("instance " + token) }

// uuidOf is the UUID of something of ours.
func uuidOf(what string) string {
	sum := sha256.Sum256([]byte("plumlatch " + what))
	sum[6], sum[8] = sum[6]&0x0f|0x80, sum[8]&0x3f|0x80
	x := hex.EncodeToString(sum[:16])
	return x[:8] + "-" + x[8:12] + "-" + x[12:16] + "-" + x[16:20] + "-" + x[20:]
}
