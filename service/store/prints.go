package store

import (
	"context"
	"fmt"

	"gorm.io/gorm"

	"plumlatch/core/keypair"
)

// derHex is the MD5 of a public key's DER as it is kept: hex digits, "" for a kind that has none.
func derHex(p keypair.Public) string {
	print, _, _ := keypair.ParsePrint(p.FingerprintDER())
	return print.Hex()
}

// fillPrints computes, for keys and sightings of before migration 18, the form that it added. Another
// replica that does the same writes the same.
func (s *Store) fillPrints(ctx context.Context) error {
	for _, table := range []string{"keys", "sightings"} {
		for left := true; left; {
			if err := s.tx(ctx, func(tx *gorm.DB) (err error) {
				left, err = fillSome(tx, table)
				return err
			}); err != nil {
				return err
			}
		}
	}
	return nil
}

// fillSome does so for some rows, and tells whether there may be more.
func fillSome(tx *gorm.DB, table string) (more bool, err error) {
	var rows []struct {
		ID   int64
		Blob []byte
	}
	if err := tx.Raw("SELECT id, blob FROM " + table + " WHERE md5_der IS NULL ORDER BY id LIMIT 500 FOR UPDATE").
		Scan(&rows).Error; err != nil || len(rows) == 0 {
		return false, err
	}
	type row struct {
		I int64
		M string
	}
	var filled []row
	for _, r := range rows {
		filled = append(filled, row{r.ID, derHex(keypair.Public{Blob: r.Blob})})
	}
	text, err := recordset(filled)
	if err != nil {
		return false, err
	}
	return true, tx.Exec(`UPDATE `+table+` t SET md5_der = r."M"
		FROM jsonb_to_recordset(?::jsonb) AS r("I" bigint, "M" text) WHERE t.id = r."I"`, text).Error
}

// ofPrint is the condition that a key has a fingerprint, whatever the form; table is that of its
// columns.
func ofPrint(table string, p keypair.Print) (sql string, args []any) {
	switch p.Form {
	case keypair.PrintMD5: // of the blob, or of the DER: by the text nobody can tell
		return "(md5(" + table + ".blob) = ? OR " + table + ".md5_der = ?)", []any{p.Hex(), p.Hex()}
	case keypair.PrintSHA1:
		return table + ".private_sha1 = ?", []any{p.Hex()}
	}
	return table + ".fingerprint = ?", []any{p.Text}
}

// SeenPrints returns the SHA256 fingerprints, at most ten, of what surveys saw and a fingerprint of
// whatever form is of. There is none for a SHA-1: nobody but who has the private half can make it.
func (s *Store) SeenPrints(ctx context.Context, p keypair.Print) ([]string, error) {
	if p.Form == keypair.PrintSHA1 {
		return nil, nil
	}
	where, args := ofPrint("s", p)
	var out []string
	return out, s.db.WithContext(ctx).Raw("SELECT DISTINCT s.fingerprint FROM sightings s WHERE "+where+
		" ORDER BY s.fingerprint LIMIT 10", args...).Scan(&out).Error
}

// SetPrivatePrint keeps the SHA-1 of a key's private half, as an operator says it is: it finds the key,
// and proves nothing. ErrNotFound.
func (s *Store) SetPrivatePrint(ctx context.Context, by Actor, k Key, p keypair.Print) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		r := tx.Exec("UPDATE keys SET private_sha1 = ?, private_sha1_by = ?, private_sha1_at = clock_timestamp() "+
			"WHERE id = ?", p.Hex(), by.Operator, k.ID)
		if r.Error == nil && r.RowsAffected == 0 {
			return ErrNotFound
		}
		if r.Error != nil {
			return r.Error
		}
		_, err := entry{by, "key.private-print", "key " + k.Name,
			fmt.Sprintf("say that its private half is %s", p.Text), "kept", 0}.write(tx)
		return err
	})
}
