package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"plumlatch/core/keypair"
	"plumlatch/core/names"
)

// Phase is what Plum Latch is doing with an instance.
type Phase string

// The phases. Ready, Failed and Removed are at rest.
const (
	Launching Phase = "launching"
	Adopting  Phase = "adopting"
	Ready     Phase = "ready"
	Failed    Phase = "failed"
	Stopping  Phase = "stopping"
	Starting  Phase = "starting"
	Removing  Phase = "removing"
	Removed   Phase = "removed"
	// Rehearsing is a copy for a rehearsal: no list has it, and nobody names it.
	Rehearsing Phase = "rehearsal"
)

// Instance is one instance of the ledger.
type Instance struct {
	ID           int64
	Name         string
	Alias        string // under which its host keys stand in a known_hosts file
	Cloud        string
	CloudID      string
	ClientToken  string
	Region       string
	Image        string
	Size         string
	LoginUser    string
	Address      string
	Port         int
	State        string // as the cloud says
	Phase        Phase
	Progress     string // the step at hand, in words
	Trouble      string // what went wrong, in words; "" for nothing
	UserData     string
	Zone         string
	DiskGB       int
	Tags         Tags   `gorm:"type:jsonb"`
	KeysFiles    Paths  `gorm:"type:jsonb"` // that its server reads for the login user; empty for the defaults
	Privilege    string // what its login user may do; "" if nobody saw
	Via          *Via   `gorm:"type:jsonb"` // the jump host that it is reached through
	Adopted      bool   // it was there before us: no cloud of ours is behind it
	Found        bool   // the cloud had it before us: adopted from its list, or linked to it
	Desktop      bool   // it has no SSH: its image gives a first password
	WorkID       int64  // the work at hand, or the last one
	HostKeysRead bool   // the first boot's output has been read: never again
	ChangedAt    time.Time
	CreatedAt    time.Time
	CreatedBy    string
	Keys         int // how many recorded keys open it

	ProbeAllowed bool  // the service may ask it from outside by itself
	Rescue       bool  // it was adopted to rescue others
	RescueFor    int64 // the work that has it for that now; 0 for none
	// RescueCloudID is what the cloud calls it, also of one that was adopted.
	RescueCloudID string
	Checks        Paths  `gorm:"type:jsonb"` // what "works" means for it: tcp:PORT, http://:PORT/PATH
	KeyLabel      string // the cloud's own word on its launch key
	VanishedAt    *time.Time
	Version       string // of the row, as InstanceAlone read it; "" elsewhere
}

const instanceColumns = `SELECT i.*, coalesce((SELECT max(w.id) FROM work w WHERE w.instance_id = i.id), 0) AS work_id,
	(SELECT count(*) FROM access a WHERE a.instance_id = i.id AND NOT a.steward) AS keys FROM instances i`

// Paths are file names.
type Paths []string

// Scan implements sql.Scanner.
func (p *Paths) Scan(v any) error { return scanJSON(v, p) }

// Via is the jump host that an instance is reached through.
type Via struct {
	Address   string   `json:"address"`
	Port      int      `json:"port"`
	LoginUser string   `json:"login_user"`
	HostKeys  [][]byte `json:"host_keys"` // blobs
}

// Scan implements sql.Scanner.
func (v *Via) Scan(x any) error { return scanJSON(x, v) }

func scanJSON(v, into any) error {
	switch text := v.(type) {
	case nil:
		return nil
	case string:
		return json.Unmarshal([]byte(text), into)
	case []byte:
		return json.Unmarshal(text, into)
	}
	return fmt.Errorf("JSON: cannot read %T", v)
}

// jsonInto is a place for a column of JSON.
type jsonInto struct{ into any }

// Scan implements sql.Scanner.
func (j jsonInto) Scan(v any) error { return scanJSON(v, j.into) }

// Tags are an instance's labels, a name to a value.
type Tags map[string]string

// Scan implements sql.Scanner.
func (t *Tags) Scan(v any) error { return scanJSON(v, t) }

// NewInstance is what a launch or an adoption records before anything is done.
type NewInstance struct {
	Instance
	KeyIDs        []int64
	Steward       keypair.Public // its Blob is nil for an instance without a steward
	StewardSealed []byte
	HostKeys      []HostKey
	Password      *FirstPassword // of a Desktop: which key it is encrypted to
	Work          NewWork
}

// AddInstance records an instance with the work that makes or adopts it.
// ErrNameTaken; Replayed or ErrReused by once.
func (s *Store) AddInstance(ctx context.Context, by Actor, once Once, n NewInstance) (Instance, error) {
	var id int64
	err := s.tx(ctx, func(tx *gorm.DB) error {
		// First, so that the second of two equal requests finds the first, and not a taken name.
		if err := once.seen(tx); err != nil {
			return err
		}
		tags, err := json.Marshal(n.Tags)
		if err != nil {
			return err
		}
		if n.Tags == nil {
			tags = []byte("{}")
		}
		files, err := json.Marshal(append(Paths{}, n.KeysFiles...))
		if err != nil {
			return err
		}
		var via *string
		if n.Via != nil {
			text, err := json.Marshal(n.Via)
			if err != nil {
				return err
			}
			s := string(text)
			via = &s
		}
		if err := tx.Raw(`INSERT INTO instances (name, name_fold, alias, cloud, client_token, region, image, size,
			login_user, phase, progress, user_data, created_by, zone, disk_gb, tags, adopted, address, port, state,
			keys_files, privilege, via, host_keys_read, probe_allowed, key_label, found, cloud_id, desktop, tags_cloud)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 'recorded', ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id`,
			n.Name, names.Fold(n.Name), n.Alias, n.Cloud, n.Work.Token, n.Region, n.Image, n.Size, n.LoginUser,
			string(n.Phase), n.UserData, by.Operator,
			n.Zone, n.DiskGB, string(tags), n.Adopted, n.Address, n.Port, n.State, string(files), n.Privilege, via,
			n.Adopted, !n.Adopted, n.KeyLabel, n.Found, n.CloudID, n.Desktop, n.Found && len(n.Tags) > 0).Scan(&id).Error; err != nil {
			return err
		}
		if _, err := addWork(tx, by, once, id, n.Work); err != nil {
			return err
		}
		if n.Password != nil {
			if err := tx.Exec("INSERT INTO first_passwords (instance_id, key_id, fingerprint) VALUES (?, nullif(CAST(? AS bigint), 0), ?)", id,
				n.Password.KeyID, n.Password.Fingerprint).Error; err != nil {
				return err
			}
		}
		for _, k := range n.KeyIDs {
			if err := tx.Exec("INSERT INTO access (instance_id, key_id, login_user) VALUES (?, ?, ?)", id, k,
				n.LoginUser).Error; err != nil {
				return err
			}
		}
		for _, h := range n.HostKeys {
			if err := tx.Exec("INSERT INTO host_keys (instance_id, blob, type, fingerprint, source) VALUES (?, ?, ?, ?, ?)", id, raw(h.Blob), h.Type, h.Fingerprint, h.Source).Error; err != nil {
				return err
			}
		}
		if n.Address != "" {
			if err := tx.Exec("INSERT INTO addresses (instance_id, address) VALUES (?, ?)", id,
				n.Address).Error; err != nil {
				return err
			}
		}
		if n.Steward.Blob == nil {
			return nil
		}
		if err := tx.Exec("INSERT INTO access (instance_id, steward, login_user) VALUES (?, true, ?)", id,
			n.LoginUser).Error; err != nil {
			return err
		}
		return tx.Exec("INSERT INTO steward_keys (instance_id, blob, sealed) VALUES (?, ?, ?)", id,
			raw(n.Steward.Blob), raw(n.StewardSealed)).Error
	})
	if constraint, ok := unique(err); ok && strings.Contains(constraint, "name") {
		// An equal request may have come first while this one was at work.
		if err := once.seen(s.db.WithContext(ctx)); err != nil {
			return Instance{}, err
		}
		return Instance{}, ErrNameTaken
	}
	if constraint, ok := unique(err); ok && constraint == "instances_of_cloud" {
		return Instance{}, ErrClaimed
	}
	if err != nil {
		return Instance{}, err
	}
	return s.InstanceByID(ctx, id)
}

// ErrClaimed says that the ledger has a cloud's instance already.
var ErrClaimed = errors.New("the ledger has this instance of the cloud already")

// OfCloud finds the instance, not removed, that is a cloud's by its own name; ErrNotFound.
func (s *Store) OfCloud(ctx context.Context, cloud, cloudID string) (Instance, error) {
	return one[Instance](ctx, s, instanceColumns+" WHERE i.cloud = ? AND i.cloud_id = ? AND i.phase NOT IN "+
		"('removed', 'failed')", cloud, cloudID)
}

// SameHostKey returns the names of other instances that show a host key.
func (s *Store) SameHostKey(ctx context.Context, instanceID int64, blob []byte) ([]string, error) {
	out := []string{}
	err := s.db.WithContext(ctx).Raw(`SELECT DISTINCT i.name FROM host_keys h JOIN instances i ON i.id = h.instance_id
		AND i.phase NOT IN ('removed', 'failed', 'rehearsal') WHERE h.blob = ? AND h.instance_id <> ? AND h.replaced_at IS NULL
		ORDER BY i.name LIMIT 10`, raw(blob), instanceID).Scan(&out).Error
	return out, err
}

// LinkInstance makes an adopted instance one of a cloud's, as that has it. ErrClaimed; ErrInProgress if it is
// not at rest, or was changed meanwhile.
func (s *Store) LinkInstance(ctx context.Context, by Actor, i, c Instance) error {
	err := s.tx(ctx, func(tx *gorm.DB) error {
		r := tx.Exec(`UPDATE instances i SET adopted = false, found = true, cloud = ?, cloud_id = ?, region = ?, zone = ?,
			image = ?, size = ?, disk_gb = ?, key_label = ?, state = ?
			WHERE id = ? AND adopted AND phase = 'ready' AND address = ? AND port = ?
			AND NOT EXISTS (SELECT 1 FROM work w WHERE w.instance_id = i.id AND w.holding)`, c.Cloud, c.CloudID, c.Region,
			c.Zone, c.Image, c.Size, c.DiskGB, c.KeyLabel, c.State, i.ID, i.Address, i.Port)
		if r.Error != nil {
			return r.Error
		}
		if r.RowsAffected == 0 {
			return ErrInProgress
		}
		if err := tx.Exec("DELETE FROM discovered WHERE cloud = ? AND cloud_id = ?", c.Cloud, c.CloudID).Error; err != nil {
			return err
		}
		if err := settleInstance(tx, i.ID); err != nil {
			return err
		}
		_, err := entry{by, "instance.link", "instance " + i.Name, "link to " + c.CloudID, "linked: its address and host key " +
			"agree", 0}.write(tx)
		return err
	})
	if constraint, ok := unique(err); ok && constraint == "instances_of_cloud" {
		return ErrClaimed
	}
	return err
}

// InstanceByID finds an instance, removed ones too; ErrNotFound.
func (s *Store) InstanceByID(ctx context.Context, id int64) (Instance, error) {
	return one[Instance](ctx, s, instanceColumns+" WHERE i.id = ?", id)
}

// InstanceAlone is InstanceByID without what has to be counted: its keys, its work.
func (s *Store) InstanceAlone(ctx context.Context, id int64) (Instance, error) {
	return one[Instance](ctx, s, "SELECT i.*, i.xmin::text AS version FROM instances i WHERE i.id = ?", id)
}

// InstancesAlone is InstanceAlone of many, by their ID; what is not there is left out.
func (s *Store) InstancesAlone(ctx context.Context, ids []int64) (map[int64]Instance, error) {
	var rows []Instance
	err := s.db.WithContext(ctx).Raw("SELECT i.*, i.xmin::text AS version FROM instances i WHERE i.id IN ?",
		ids).Scan(&rows).Error
	out := map[int64]Instance{}
	for _, i := range rows {
		out[i.ID] = i
	}
	return out, err
}

// InstanceByName finds an instance that is not removed, whatever the case of its name; ErrNotFound.
func (s *Store) InstanceByName(ctx context.Context, name string) (Instance, error) {
	return one[Instance](ctx, s, instanceColumns+" WHERE i.name_fold = ? AND i.phase NOT IN ('removed', 'rehearsal')", names.Fold(name))
}

// InstanceIDs finds the IDs of instances that are not removed, by their names folded (names.Fold).
// What is not there is left out.
func (s *Store) InstanceIDs(ctx context.Context, all []string) (map[string]int64, error) {
	folded := []string{}
	for _, name := range all {
		folded = append(folded, names.Fold(name))
	}
	var rows []struct {
		ID       int64
		NameFold string
	}
	err := s.db.WithContext(ctx).Raw("SELECT id, name_fold FROM instances WHERE name_fold IN ? AND phase NOT IN ('removed', 'rehearsal')",
		folded).Scan(&rows).Error
	out := map[string]int64{}
	for _, r := range rows {
		out[r.NameFold] = r.ID
	}
	return out, err
}

// InstanceAt finds the instance, not removed, that is recorded at an address and port; ErrNotFound.
func (s *Store) InstanceAt(ctx context.Context, address string, port int) (Instance, error) {
	return one[Instance](ctx, s, instanceColumns+
		" WHERE i.address = ? AND i.port = ? AND i.phase NOT IN ('removed', 'rehearsal') AND i.via IS NULL ORDER BY i.id LIMIT 1",
		address, port)
}

// InstanceQuery chooses and orders instances.
type InstanceQuery struct {
	Text, Region, Image, State string // State is the cloud's, or "failed"
	Key                        string // name of a key that opens it
	Sort                       string // "name" (default), "created", "region"
	Descending                 bool
	Page
}

// Instances returns a page of instances that are not removed.
func (s *Store) Instances(ctx context.Context, q InstanceQuery) ([]Instance, string, error) {
	var l list
	l.filter("i.phase NOT IN ('removed', 'rehearsal')")
	if q.Text != "" {
		l.filter("(position(? in i.name_fold) > 0 OR i.address = ?)", strings.ToLower(q.Text), q.Text)
	}
	for column, v := range map[string]string{"i.region": q.Region, "i.image": q.Image} {
		if v != "" {
			l.filter(column+" = ?", v)
		}
	}
	if q.State != "" {
		l.filter("(CASE WHEN i.phase = 'failed' THEN 'failed' ELSE i.state END) = ?", q.State)
	}
	if q.Key != "" {
		l.filter("EXISTS (SELECT 1 FROM access a JOIN keys k ON k.id = a.key_id WHERE a.instance_id = i.id AND "+
			"k.name_fold = ?)", names.Fold(q.Key))
	}
	column, value := "i.name_fold", func(i Instance) string { return names.Fold(i.Name) }
	switch q.Sort {
	case "created":
		column, value = createdText("i"), func(i Instance) string { return sortTime(i.CreatedAt) }
	case "region":
		column, value = "i.region", func(i Instance) string { return i.Region }
	}
	return pageOf(ctx, s, &l, instanceColumns, column, "i.id", q.Descending, q.Page,
		func(i Instance) (string, int64) { return value(i), i.ID })
}

// BeginChange takes an instance at rest into a phase, by a piece of work.
// ErrInProgress if another holds it; Replayed or ErrReused by once.
func (s *Store) BeginChange(ctx context.Context, by Actor, once Once, i Instance, phase Phase, n NewWork) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		if _, err := addWork(tx, by, once, i.ID, n); err != nil {
			return err
		}
		r := tx.Exec(`UPDATE instances SET phase = ?, progress = 'recorded'
			WHERE id = ? AND phase IN ('ready', 'failed')`, string(phase), i.ID)
		if r.Error == nil && r.RowsAffected == 0 {
			return ErrInProgress
		}
		return r.Error
	})
}

// Note records what the cloud says of an instance in the middle of a change,
// and the step at hand. A change of address makes earlier evidence old.
func (s *Store) Note(ctx context.Context, id int64, cloudID, state, address string, port int, static bool,
	progress string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		var before string
		if err := tx.Raw("SELECT address FROM instances WHERE id = ? FOR UPDATE", id).Scan(&before).Error; err != nil {
			return err
		}
		if err := noteAddress(tx, id, before, address, static); err != nil {
			return err
		}
		if err := tx.Exec(`UPDATE instances SET cloud_id = ?, state = ?, port = ?, progress = ?,
			changed_at = CASE WHEN address <> ? THEN now() ELSE changed_at END, address = ? WHERE id = ?`,
			cloudID, state, port, progress, address, address, id).Error; err != nil || before == address {
			return err
		}
		return settleInstance(tx, id)
	})
}

// Address is one address that an instance had, and when.
type Address struct {
	Address string
	Since   time.Time
	Until   *time.Time
	Static  bool
}

// Addresses returns the addresses that an instance had, the newest first.
func (s *Store) Addresses(ctx context.Context, instanceID int64) ([]Address, error) {
	out := []Address{}
	err := s.db.WithContext(ctx).Raw("SELECT address, since, until, static FROM addresses WHERE instance_id = ? "+
		"ORDER BY id DESC LIMIT 50", instanceID).Scan(&out).Error
	return out, err
}

// HostKey is one host key of an instance.
type HostKey struct {
	Blob        []byte
	Type        string
	Fingerprint string
	Source      string // how it is known
	RecordedAt  time.Time
	ReplacedAt  *time.Time
	ReplacedBy  string
}

// HostKeys returns the recorded host keys of an instance.
func (s *Store) HostKeys(ctx context.Context, instanceID int64) ([]HostKey, error) {
	out := []HostKey{}
	err := s.db.WithContext(ctx).Raw("SELECT blob, type, fingerprint, source, recorded_at FROM host_keys WHERE "+
		"instance_id = ? AND replaced_at IS NULL ORDER BY type", instanceID).Scan(&out).Error
	return out, err
}

// FirstBootRead says that the first boot's output of an instance has been read,
// and records the host key that it vouched for, if any. It is done once only.
func (s *Store) FirstBootRead(ctx context.Context, i Instance, key *keypair.Public, source string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		r := tx.Exec("UPDATE instances SET host_keys_read = true WHERE id = ? AND NOT host_keys_read", i.ID)
		if r.Error != nil || r.RowsAffected == 0 || key == nil {
			return r.Error
		}
		if err := tx.Exec("INSERT INTO host_keys (instance_id, blob, type, fingerprint, source) VALUES (?, ?, ?, ?, ?)",
			i.ID, raw(key.Blob), key.Type(), key.Fingerprint(), source).Error; err != nil {
			return err
		}
		_, err := entry{Service, "host-key.record", "instance " + i.Name, "record " + key.Fingerprint(),
			source, 0}.write(tx)
		return err
	})
}

// Sentinel returns what ties the database to its identity file, nil for none.
func (s *Store) Sentinel(ctx context.Context) ([]byte, error) {
	var rows [][]byte
	var r []struct{ Sealed []byte }
	if err := s.db.WithContext(ctx).Raw("SELECT sealed FROM sentinel").Scan(&r).Error; err != nil {
		return nil, err
	}
	for _, x := range r {
		rows = append(rows, x.Sealed)
	}
	if len(rows) == 0 {
		return nil, nil
	}
	return rows[0], nil
}

// ErrSentinel says that the database has a sentinel already.
var ErrSentinel = errors.New("the database is sealed already")

// SetSentinel ties the database to its identity file, once. ErrSentinel.
func (s *Store) SetSentinel(ctx context.Context, sealed []byte) error {
	err := s.db.WithContext(ctx).Exec("INSERT INTO sentinel (sealed) VALUES (?)", raw(sealed)).Error
	if _, ok := unique(err); ok {
		return ErrSentinel
	}
	return err
}
