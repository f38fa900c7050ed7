package store

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"

	"plumlatch/core/journal"
	"plumlatch/core/wire"
)

// chainLock lets one replica chain at a time.
const chainLock = 7461658

// chainAtOnce is how many entries one link-up takes in.
const chainAtOnce = 1000

// Chain takes committed entries of the journal into the chain, at most a
// thousand, in the order in which it finds them, and signs the new head.
// It returns that head, nil if there was nothing to do or another replica is at it.
func (s *Store) Chain(ctx context.Context, sign func(text []byte) []byte) (*wire.JournalHead, error) {
	var head *wire.JournalHead
	err := s.tx(ctx, func(tx *gorm.DB) error {
		head = nil
		var mine bool
		if err := tx.Raw("SELECT pg_try_advisory_xact_lock(?)", chainLock).Scan(&mine).Error; err != nil || !mine {
			return err
		}
		var waiting []struct {
			ID    int64
			Bytes []byte
		}
		if err := tx.Raw("SELECT j.id, j.bytes FROM journal_waiting w JOIN journal j ON j.id = w.journal_id ORDER "+
			"BY w.journal_id LIMIT ?", chainAtOnce).Scan(&waiting).Error; err != nil || len(waiting) == 0 {
			return err
		}
		var last []struct {
			N      int64
			Sha256 []byte
		}
		if err := tx.Raw("SELECT n, sha256 FROM journal_chain ORDER BY n DESC LIMIT 1").Scan(&last).Error; err != nil {
			return err
		}
		var n int64
		var sum []byte
		if len(last) == 1 {
			n, sum = last[0].N, last[0].Sha256
		}
		type link struct {
			N, ID int64
			S     string
		}
		var links []link
		for _, e := range waiting {
			n++
			sum = journal.Link(sum, n, e.ID, e.Bytes)
			links = append(links, link{n, e.ID, hex.EncodeToString(sum)})
		}
		text, err := json.Marshal(links)
		if err != nil {
			return err
		}
		const given = `jsonb_to_recordset(?::jsonb) AS l("N" bigint, "ID" bigint, "S" text)`
		if err := tx.Exec(`INSERT INTO journal_chain (n, journal_id, sha256) SELECT l."N", l."ID",
			decode(l."S", 'hex') FROM `+given, string(text)).Error; err != nil {
			return err
		}
		if err := tx.Exec(`DELETE FROM journal_waiting WHERE journal_id IN (SELECT l."ID" FROM `+given+`)`,
			string(text)).Error; err != nil {
			return err
		}
		var at time.Time
		if err := tx.Raw("SELECT clock_timestamp()").Scan(&at).Error; err != nil {
			return err
		}
		at = at.UTC()
		signature := sign(journal.HeadText(n, at, sum))
		head = &wire.JournalHead{N: n, At: at, SHA256: hex.EncodeToString(sum), Signature: signature}
		return tx.Exec("INSERT INTO journal_heads (n, at, sha256, signature) VALUES (?, ?, ?, ?)", n, at, raw(sum),
			raw(signature)).Error
	})
	return head, err
}

// HasLink tells whether the chain has a link of this place and sum, in hex.
func (s *Store) HasLink(ctx context.Context, n int64, sum string) (bool, error) {
	r, err := one[struct{ Has bool }](ctx, s,
		"SELECT EXISTS (SELECT 1 FROM journal_chain WHERE n = ? AND sha256 = decode(?, 'hex')) AS has", n, sum)
	return r.Has, err
}

// ExportJournal gives every line of the journal to use: chained entries by
// their place, unchained ones, heads.
func (s *Store) ExportJournal(ctx context.Context, public []byte, use func(journal.Line) error) error {
	type row struct {
		N      int64
		Sha256 []byte
		ID     int64
		Bytes  []byte
		JournalEntry
	}
	const columns = "coalesce(j.at, to_timestamp(0)) AS at, coalesce(j.operator, '') AS operator, " +
		"coalesce(j.address, '') AS address, coalesce(j.action, '') AS action, coalesce(j.target, '') AS target, coalesce(j.intent, '') AS intent, coalesce(j.outcome, '') AS outcome, coalesce(j.of, 0) AS of, j.bytes"
	entry := func(n int64, sum []byte, id int64, r row) error {
		e := wire.ChainedEntry{N: n, ID: id, Bytes: r.Bytes, SHA256: hex.EncodeToString(sum),
			Columns: wire.JournalEntry{ID: id, At: r.At.UTC(), Operator: r.Operator, Address: r.Address,
				Action: r.Action, Target: r.Target, Intent: r.Intent, Outcome: r.Outcome, Of: r.Of}}
		return use(journal.Line{Entry: &e})
	}
	// Heads are read last, and those that were signed meanwhile are left out: they name links
	// that were not there yet when the chain was read, as if its tail had been cut.
	last, err := one[struct{ N int64 }](ctx, s, "SELECT coalesce(max(n), 0) AS n FROM journal_heads")
	if err != nil {
		return err
	}
	for after := int64(0); ; {
		var rows []row
		if err := s.db.WithContext(ctx).Raw("SELECT c.n, c.sha256, c.journal_id AS id, "+columns+
			" FROM journal_chain c LEFT JOIN journal j ON j.id = c.journal_id WHERE c.n > ? ORDER BY c.n LIMIT 2000",
			after).Scan(&rows).Error; err != nil {
			return err
		}
		for _, r := range rows {
			if err := entry(r.N, r.Sha256, r.ID, r); err != nil {
				return err
			}
			after = r.N
		}
		if len(rows) < 2000 {
			break
		}
	}
	var loose []row
	if err := s.db.WithContext(ctx).Raw("SELECT j.id, " + columns +
		" FROM journal j WHERE NOT EXISTS (SELECT 1 FROM journal_chain c WHERE c.journal_id = j.id) ORDER BY j.id " +
		"LIMIT 10000").Scan(&loose).Error; err != nil {
		return err
	}
	for _, r := range loose {
		if err := entry(0, nil, r.ID, r); err != nil {
			return err
		}
	}
	for after := int64(0); ; {
		var heads []struct {
			N                 int64
			At                time.Time
			Sha256, Signature []byte
		}
		if err := s.db.WithContext(ctx).Raw("SELECT n, at, sha256, signature FROM journal_heads WHERE n > ? AND n "+
			"<= ? ORDER BY n LIMIT 2000", after, last.N).Scan(&heads).Error; err != nil {
			return err
		}
		for _, h := range heads {
			if err := use(journal.Line{Head: &wire.JournalHead{N: h.N, At: h.At.UTC(),
				SHA256: hex.EncodeToString(h.Sha256), Signature: h.Signature, PublicKey: public}}); err != nil {
				return err
			}
			after = h.N
		}
		if len(heads) < 2000 {
			return nil
		}
	}
}

// JournalCheck is what came of a look at the journal.
type JournalCheck struct {
	Links     int64
	Breaks    []string
	HeadN     int64 // the newest signed head that was seen
	ByService bool  // the service looked itself, by its own key and memory
	Role      Role  // of who had it look; "" for the service by itself
}

// JournalChecked records that the journal was verified, and what came of it. A
// break stands until the service itself has looked and found none, at the word of
// somebody who may change things: what a client says of a journal without breaks
// settles nothing, nor does a viewer.
func (s *Store) JournalChecked(ctx context.Context, by Actor, c JournalCheck) error {
	text, err := json.Marshal(append([]string{}, c.Breaks...))
	if err != nil {
		return err
	}
	who := "a client's look"
	if c.ByService {
		who = "the service's own look"
	}
	return s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("INSERT INTO journal_checks (operator, links, breaks, by_service, role, head_n) VALUES "+
			"(?, ?, ?, ?, ?, ?)", by.Operator, c.Links, string(text), c.ByService, string(c.Role),
			c.HeadN).Error; err != nil {
			return err
		}
		_, err := entry{by, "journal.check", "journal", "verify: " + who,
			fmt.Sprintf("%d links, %d breaks", c.Links, len(c.Breaks)), 0}.write(tx)
		return err
	})
}

// OwnerRole tells whether this service's own role could change or remove what
// stands in the journal.
func (s *Store) OwnerRole(ctx context.Context) (bool, error) {
	r, err := one[struct{ May bool }](ctx, s,
		"SELECT has_table_privilege('journal', 'UPDATE') OR has_table_privilege('journal', 'DELETE') OR "+
			"has_table_privilege('journal_chain', 'UPDATE') OR has_table_privilege('journal_chain', 'DELETE') AS may")
	return r.May, err
}
