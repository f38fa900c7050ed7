package standin

import (
	"errors"
	"io/fs"
	"path"
	"sync"
	"syscall"
	"time"

	"github.com/pkg/sftp"
)

// Odds are what is odd about an instance's disk and clock.
type Odds struct {
	AheadSeconds int `json:"ahead_seconds"` // its clock is ahead of ours; negative: behind
	// Disk is "full" (nothing can be made or written) or "read-only" (nor moved or
	// removed) once After further changes have succeeded; "" mends it.
	Disk  string `json:"disk"`
	After int    `json:"after"`
	Watch bool   `json:"watch"` // keep what stands in the login user's file of keys after each change over SFTP
}

// odds are the odds of an instance while it runs, and what was kept.
type odds struct {
	mu   sync.Mutex
	is   Odds
	seen []string
}

// maxSeen is how many states of the file are kept at most.
const maxSeen = 2000

func (o *odds) ahead() time.Duration {
	o.mu.Lock()
	defer o.mu.Unlock()
	return time.Duration(o.is.AheadSeconds) * time.Second
}

// may counts a change, and tells whether the disk takes it.
func (o *odds) may(makes bool) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	switch {
	case o.is.Disk == "" || o.is.Disk == "full" && !makes:
		return nil
	case o.is.After > 0:
		o.is.After--
		return nil
	case o.is.Disk == "full":
		return syscall.ENOSPC
	}
	return syscall.EROFS
}

// changed keeps what stands in the file of keys now.
func (d *disk) changed() {
	o := d.odds
	o.mu.Lock()
	defer o.mu.Unlock()
	if !o.is.Watch || len(o.seen) == maxSeen {
		return
	}
	text, err := d.root.ReadFile(d.path(path.Join(d.home, ".ssh/authorized_keys")))
	if err != nil {
		text = []byte(err.Error())
	}
	if len(o.seen) == 0 || o.seen[len(o.seen)-1] != string(text) {
		o.seen = append(o.seen, string(text))
	}
}

// change does one change, if the disk takes it.
func (d *disk) change(makes bool, f func() error) error {
	if err := d.odds.may(makes); err != nil {
		return err
	}
	defer d.changed()
	return f()
}

// written is a file whose writes are changes.
type written struct {
	sftp.WriterAtReaderAt
	d *disk
}

// WriteAt writes, if the disk takes it.
func (w written) WriteAt(p []byte, off int64) (n int, err error) {
	err = w.d.change(true, func() error {
		n, err = w.WriterAtReaderAt.WriteAt(p, off)
		return err
	})
	return n, err
}

// Close closes the file.
func (w written) Close() error {
	if c, ok := w.WriterAtReaderAt.(interface{ Close() error }); ok {
		return c.Close()
	}
	return nil
}

// described is a file's description by the instance's own clock and users.
type described struct {
	fs.FileInfo
	ahead time.Duration
	uid   uint32
}

// ModTime is when it was changed last, by the instance's clock.
func (d described) ModTime() time.Time { return d.FileInfo.ModTime().Add(d.ahead) }

// Uid implements sftp.FileInfoUidGid: on a stand-in there is one real owner only.
func (d described) Uid() uint32 { return d.uid }

// Gid implements sftp.FileInfoUidGid.
func (d described) Gid() uint32 { return d.uid }

// SetOdds makes an instance's disk or clock odd, from now until it is stopped.
func (c *Cloud) SetOdds(id string, is Odds) error {
	if is.Disk != "" && is.Disk != "full" && is.Disk != "read-only" || is.After < 0 {
		return errors.Join(ErrInvalid, errors.New(`a disk is full, read-only or "", after no less than 0 changes`))
	}
	return c.withServer(id, func(s *server) {
		s.odds.mu.Lock()
		defer s.odds.mu.Unlock()
		if s.odds.is = is; is.Watch {
			s.odds.seen = nil
		}
	})
}

// Seen returns what stood in the login user's file of keys, after each change since it is watched.
func (c *Cloud) Seen(id string) (out []string, err error) {
	err = c.withServer(id, func(s *server) {
		s.odds.mu.Lock()
		defer s.odds.mu.Unlock()
		out = append([]string{}, s.odds.seen...)
	})
	return out, err
}

func (c *Cloud) withServer(id string, f func(*server)) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	in, ok := c.instances[id]
	if !ok || in.server == nil {
		return ErrNotFound
	}
	f(in.server)
	return nil
}
