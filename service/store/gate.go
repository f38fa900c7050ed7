package store

import (
	"bytes"
	"database/sql/driver"
	"encoding/json"

	"gorm.io/gorm"

	"plumlatch/core/secrets"
)

// gate looks at every value of every statement before it is sent. A request with a
// private key in it is refused where it is read (service/api); what an instance, a
// cloud or an error of theirs brings is kept with the place blanked. So whatever
// else fails, no row of the database, no line of the journal and no log of the
// database's own has a private key in the clear.
func gate(db *gorm.DB) error {
	look := func(db *gorm.DB) {
		for n, v := range db.Statement.Vars {
			if now, found := blanked(v); found {
				db.Statement.Vars[n] = now
			}
		}
	}
	c := db.Callback()
	for _, err := range []error{
		c.Raw().Before("gorm:raw").Register("plumlatch:gate", look),
		c.Row().Before("gorm:row").Register("plumlatch:gate", look),
		c.Query().Before("gorm:query").Register("plumlatch:gate", look),
		c.Create().Before("gorm:create").Register("plumlatch:gate", look),
		c.Update().Before("gorm:update").Register("plumlatch:gate", look),
		c.Delete().Before("gorm:delete").Register("plumlatch:gate", look),
	} {
		if err != nil {
			return err
		}
	}
	return nil
}

// blanked is a value with what it holds of private keys blanked.
func blanked(v any) (any, bool) {
	switch v := v.(type) {
	case string:
		return blankedText(v)
	case *string:
		if v != nil {
			if now, found := blankedText(*v); found {
				return &now, true
			}
		}
	case []byte:
		if now, found := blankedText(string(v)); found {
			return []byte(now), true
		}
	case []string:
		out, any := append([]string{}, v...), false
		for n := range out {
			now, found := blankedText(out[n])
			out[n], any = now, any || found
		}
		return out, any
	case driver.Valuer:
		inner, err := v.Value()
		if err != nil || inner == nil {
			return nil, false
		}
		return blanked(inner)
	}
	return nil, false
}

// blankedText blanks within a document of JSON as well, where each text of it is
// looked at as it is once it is decoded.
func blankedText(text string) (string, bool) {
	if !secrets.Holds(text) {
		return text, false
	}
	d := json.NewDecoder(bytes.NewReader([]byte(text)))
	d.UseNumber()
	var v any
	if len(text) > 1 && (text[0] == '{' || text[0] == '[') && d.Decode(&v) == nil && !d.More() {
		secrets.BlankAll(&v)
		if out, err := json.Marshal(v); err == nil && !secrets.Holds(string(out)) {
			return string(out), true
		}
	}
	return secrets.Blank(text)
}
