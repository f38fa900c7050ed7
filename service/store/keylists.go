package store

import (
	"context"
	"strings"

	"gorm.io/gorm"

	"plumlatch/core/keylists"
)

// ListKeys returns every key of the ledger, for setting a cloud's lists against them.
func (s *Store) ListKeys(ctx context.Context) ([]keylists.Key, error) {
	var rows []struct {
		ID              int64
		Name, State     string
		Retired         bool
		Blob            []byte
		PrivateSHA1Kept string
	}
	err := s.db.WithContext(ctx).Raw(`SELECT id, name, state, retired_at IS NOT NULL AS retired, blob,
		private_sha1 AS private_sha1_kept FROM keys WHERE NOT authority ORDER BY id`).Scan(&rows).Error
	var out []keylists.Key
	for _, r := range rows {
		out = append(out, keylists.Key{ID: r.ID, Name: r.Name, State: r.State, Retired: r.Retired, Blob: r.Blob,
			PrivateSHA1: r.PrivateSHA1Kept})
	}
	return out, err
}

// KeyList is what one list of a cloud held when it was read.
type KeyList struct {
	Region     string // "" for one that is not of a region
	Used, Most int
	Trouble    string // why it could not be read: what was kept of it stays
	Entries    []ListedKey
}

// ListedKey is an entry of a list that is a key of the ledger.
type ListedKey struct {
	Entry, Name string
	KeyID       int64
}

// KeepKeyList keeps what a list of a cloud held.
func (s *Store) KeepKeyList(ctx context.Context, cloud string, l KeyList) error {
	if l.Trouble != "" {
		return s.tx(ctx, func(tx *gorm.DB) error {
			return tx.Exec(`INSERT INTO key_lists AS l (cloud, region, used, most, trouble)
				VALUES (?, ?, 0, 0, ?) ON CONFLICT (cloud, region) DO UPDATE SET trouble = excluded.trouble
				WHERE l.trouble <> excluded.trouble`, cloud, l.Region, l.Trouble).Error
		})
	}
	entries, err := recordset(l.Entries)
	if err != nil {
		return err
	}
	const given = `jsonb_to_recordset(?::jsonb) AS d("Entry" text, "Name" text, "KeyID" bigint)`
	return s.tx(ctx, func(tx *gorm.DB) error {
		// Whoever reads the same list at the same time waits here: the later one has the last word.
		if err := tx.Exec(`INSERT INTO key_lists AS l (cloud, region, used, most, read_at) VALUES (?, ?, ?, ?, clock_timestamp())
			ON CONFLICT (cloud, region) DO UPDATE SET used = excluded.used, most = excluded.most, trouble = '',
			read_at = clock_timestamp()`, cloud, l.Region, l.Used, l.Most).Error; err != nil {
			return err
		}
		if err := tx.Exec(`DELETE FROM listed_keys k WHERE k.cloud = ? AND k.region = ? AND NOT EXISTS (SELECT 1 FROM `+given+`
			WHERE d."Entry" = k.entry AND d."Name" = k.name AND d."KeyID" = k.key_id)`, cloud, l.Region, entries).Error; err != nil {
			return err
		}
		// A key that was forgotten meanwhile is no key of the ledger.
		return tx.Exec(`INSERT INTO listed_keys (cloud, region, entry, name, key_id) SELECT ?, ?, d."Entry", d."Name", d."KeyID"
			FROM `+given+` JOIN keys k ON k.id = d."KeyID" WHERE NOT EXISTS (SELECT 1 FROM listed_keys o
			WHERE o.cloud = ? AND o.region = ? AND o.entry = d."Entry")`, cloud, l.Region, entries, cloud, l.Region).Error
	})
}

// Labelled is how many instances bear a label, and some of them.
type Labelled struct {
	Region, Label string
	All           int
	Some          []string // names of the ledger, at most ten
}

// Labelled counts, by region and label, the instances that their cloud says were launched with a key of that name,
// those among them that the ledger does not know too.
func (s *Store) Labelled(ctx context.Context, cloud string) ([]Labelled, error) {
	var rows []struct {
		Region, Label, Names string
		Known, Others        int
	}
	err := s.db.WithContext(ctx).Raw(`SELECT region, label, count(*) FILTER (WHERE name <> '') AS known,
		count(*) FILTER (WHERE name = '') AS others,
		coalesce(string_agg(name, ' ' ORDER BY name) FILTER (WHERE name <> '' AND n <= 10), '') AS names
		FROM (SELECT region, key_label AS label, name, row_number() OVER (PARTITION BY region, key_label ORDER BY name) AS n
			FROM instances WHERE cloud = ? AND key_label <> '' AND phase NOT IN ('removed', 'failed', 'rehearsal')
			UNION ALL SELECT region, key_label, '', 0 FROM discovered WHERE cloud = ? AND key_label <> '') x
		GROUP BY region, label`, cloud, cloud).Scan(&rows).Error
	var out []Labelled
	for _, r := range rows {
		out = append(out, Labelled{Region: r.Region, Label: r.Label, All: r.Known + r.Others, Some: strings.Fields(r.Names)})
	}
	return out, err
}

// fullKeyLists returns the lists that were nearly full when they were last read (keylists.Full).
func fullKeyLists(tx *gorm.DB) (out []KeyList, err error) {
	var rows []struct {
		Region     string
		Used, Most int
	}
	err = tx.Raw("SELECT region, used, most FROM key_lists WHERE most > 0 AND 10 * used >= 9 * most ORDER BY cloud, region " +
		"LIMIT 1000").Scan(&rows).Error
	for _, r := range rows {
		if keylists.Full(r.Used, r.Most) {
			out = append(out, KeyList{Region: r.Region, Used: r.Used, Most: r.Most})
		}
	}
	return out, err
}
