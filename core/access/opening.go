package access

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// OtherSort is a sort of door that stands in no list of keys.
type OtherSort string

// The sorts of other doors.
const (
	CALine    OtherSort = "authority"           // a line of authorized_keys that trusts a certificate authority
	CASetting OtherSort = "trusted-authorities" // TrustedUserCAKeys of the server's settings
	KeyCmd    OtherSort = "key-command"         // AuthorizedKeysCommand of the server's settings
	Password  OtherSort = "password"            // login by password, or by questions and answers
	HostBased OtherSort = "host-based"          // other machines vouch for their users
	Anybody   OtherSort = "anybody"             // the server lets people in without anything
)

var otherWords = map[OtherSort]string{CALine: "a certificate authority", CASetting: "TrustedUserCAKeys",
	KeyCmd: "a key command", Password: "login by password", HostBased: "host-based login",
	Anybody: "the server lets anybody in"}

// Other is a door that stands in no list of keys, and how it is known.
type Other struct {
	Sort        OtherSort
	User        string // whom it lets in as; "" for every user of the instance
	Fingerprint string // of an authority in a line
	Name        string // of an authority that is recorded
	Holder      string // of an authority that is recorded
	Principals  string // whom alone the authority of a line can vouch for; "" for the user's own name
	Place       string // FILE:LINE of a line, FILE of a setting
	Value       string // of the setting
	From        string // who saw it: the steward, the client of somebody, an address outside
	At          time.Time
}

// String says in a few words which door it is.
func (o Other) String() string {
	s := otherWords[o.Sort]
	switch {
	case o.Name != "" && o.Holder != "":
		s += " (" + o.Name + ", held by " + o.Holder + ")"
	case o.Name != "":
		s += " (" + o.Name + ")"
	case o.Fingerprint != "":
		s += " (" + o.Fingerprint + ")"
	case o.Value != "":
		s += " " + o.Value
	}
	if o.User != "" {
		s += " for " + o.User
	}
	if o.Principals != "" {
		s += " with the principals " + o.Principals
	}
	if o.Place != "" {
		s += ", in " + o.Place
	}
	return s
}

// Setting makes the door that a setting of the server opens (sshd_config(5)): keyword in any case, ok is
// false for one that opens none.
func Setting(keyword, value string) (o Other, ok bool) {
	value = strings.TrimSpace(value)
	if value == "" || strings.EqualFold(value, "none") || strings.EqualFold(value, "no") {
		return o, false
	}
	switch strings.ToLower(keyword) {
	case "trustedusercakeys":
		return Other{Sort: CASetting, Value: value}, true
	case "authorizedkeyscommand":
		return Other{Sort: KeyCmd, Value: value}, true
	case "hostbasedauthentication":
		return Other{Sort: HostBased}, true
	}
	return o, false
}

// FromSettings tells whether it is the server's settings that open such a door.
func (s OtherSort) FromSettings() bool { return s == CASetting || s == KeyCmd || s == HostBased }

// Explains says what follows from such a door.
func (s OtherSort) Explains() string {
	return map[OtherSort]string{
		CALine:    "whoever it vouches for gets in, and is listed nowhere",
		CASetting: "whoever these authorities vouch for gets in, and is listed nowhere",
		KeyCmd:    "keys that a command gives the server are listed nowhere",
		Password:  "whoever knows the password gets in without a key",
		HostBased: "whoever other machines vouch for gets in without a key",
		Anybody:   "no key is needed at all",
	}[s]
}

// Opening is the one answer to what opens an instance: whatever says that a key is the only one, or
// that nobody gets in, says it by this.
type Opening struct {
	People     []DoorKey // recorded, and a way in for people
	ForWhile   []DoorKey // recorded, and a way in for people until its end
	Unrecorded []DoorKey // stand in its files, would be taken, and nobody recorded them
	Others     []Other
	// NotSeen says why there may be more than this: nobody has looked, or could not.
	NotSeen string
}

// Opening says what is known to open the instance: a line that trusts an authority is another door, and
// no key, even where the same key is recorded.
func (d Door) Opening() Opening {
	o := Opening{Others: slices.Clone(d.Others)}
	for _, k := range d.Keys {
		for _, v := range k.vouches() {
			o.Others = append(o.Others, Other{Sort: CALine, User: k.LoginUser, Fingerprint: k.Fingerprint, Name: k.Key,
				Holder: k.Holder, Principals: v.Principals, Place: v.Place, From: k.There.From, At: k.There.At})
		}
		if k.There != nil && k.There.Limits == Authority && !k.Steward {
			continue
		}
		if ok, _ := k.WayIn(); ok {
			o.People = append(o.People, k)
		} else if k.Recorded && k.forWhile() {
			o.ForWhile = append(o.ForWhile, k)
		} else if d.opensUnrecorded(k) {
			o.Unrecorded = append(o.Unrecorded, k)
		}
	}
	switch {
	case d.Inside.SeenAt.IsZero():
		o.NotSeen = "nobody has looked into its files yet"
	case d.Inside.Trouble != "":
		o.NotSeen = "its files were last seen " + on(d.Inside.SeenAt) + "; since then: " + d.Inside.Trouble
	}
	return o
}

// vouches are the lines that trust a key as an authority.
func (k DoorKey) vouches() []Vouch {
	switch {
	case k.There == nil || k.Steward:
		return nil
	case len(k.There.Vouches) == 0 && k.There.Limits == Authority:
		return []Vouch{{Place: k.There.Place}}
	}
	return k.There.Vouches
}

// opensUnrecorded tells whether a key stands there, the server would take it, and nobody recorded it.
// The line that first boot writes for root, which only says whom to log in as, is none.
func (d Door) opensUnrecorded(k DoorKey) bool {
	return !k.Recorded && !k.Steward && k.There != nil && k.There.Limits != Authority && k.There.Limits != Expired &&
		!d.FirstBoots(k)
}

// FirstBoots tells a line that first boot puts into root's file: a key that is
// recorded for the login user, with a forced command that says whom to log in as.
func (d Door) FirstBoots(k DoorKey) bool {
	return k.There != nil && k.LoginUser == "root" && k.There.Limits == Command &&
		slices.ContainsFunc(d.Keys, func(o DoorKey) bool {
			return o.Recorded && o.Fingerprint == k.Fingerprint && o.LoginUser == d.LoginUser
		})
}

// usable are the unrecorded keys by which somebody may get in who is nobody's enemy: not lost, not
// exposed, and not confined to one command.
func (o Opening) usable() (out []DoorKey) {
	for _, k := range o.Unrecorded {
		if k.State != Lost && k.State != Exposed && k.There.Limits != Command {
			out = append(out, k)
		}
	}
	return out
}

// names are the names of keys, each once.
func named(keys []DoorKey) (out []string) {
	for _, k := range keys {
		if !slices.Contains(out, k.name()) {
			out = append(out, k.name())
		}
	}
	slices.Sort(out)
	return out
}

// Sole returns the key that is the only way in, if that is so: one recorded key of a person's, and
// nothing that nobody recorded. What ends by itself is none.
func (o Opening) Sole() (k DoorKey, ok bool) {
	if len(named(o.People)) != 1 || len(o.usable()) > 0 || len(o.Others) > 0 {
		return DoorKey{}, false
	}
	return o.People[0], true
}

// Count is how many recorded keys are ways in for people.
func (o Opening) Count() int { return len(named(o.People)) }

// Nobody tells whether nothing at all is known that lets people in.
func (o Opening) Nobody() bool {
	return len(o.People) == 0 && len(o.ForWhile) == 0 && len(o.usable()) == 0 && len(o.Others) == 0
}

// Besides says what opens it besides the recorded keys of people that have no end; "" for nothing.
func (o Opening) Besides() string {
	var parts []string
	for _, of := range []struct {
		what string
		keys []DoorKey
	}{{"for a while only", o.ForWhile}, {"keys that nobody recorded", o.usable()}} {
		keys := named(of.keys)
		if len(keys) == 0 {
			continue
		}
		shown := keys[:min(3, len(keys))]
		text := strings.Join(shown, ", ")
		if n := len(keys) - len(shown); n > 0 {
			text += fmt.Sprintf(" and %d more", n)
		}
		parts = append(parts, of.what+": "+text)
	}
	for n, other := range o.Others {
		if n == 3 {
			parts = append(parts, fmt.Sprintf("%d more doors", len(o.Others)-n))
			break
		}
		parts = append(parts, other.String())
	}
	return strings.Join(parts, "; ")
}
