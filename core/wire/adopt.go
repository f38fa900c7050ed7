package wire

// Adoption asks for an instance that is there already to be recorded. What is
// in it was found out by the engineer's client, with the engineer's own key.
type Adoption struct {
	Name      string            `json:"name"`
	Address   string            `json:"address"` // IP address
	Port      int               `json:"port"`
	LoginUser string            `json:"login_user"`
	HostKeys  []string          `json:"host_keys"`       // public key lines that the client saw
	HostKnown string            `json:"host_key_source"` // how the client knew them
	Tags      map[string]string `json:"tags,omitempty"`
	Via       *Hop              `json:"via,omitempty"`
	NoSteward bool              `json:"no_steward"`
	// KeysFiles are the files that the server reads for the login user, and
	// File the one of them that the steward's line goes into.
	KeysFiles []string   `json:"keys_files"`
	File      string     `json:"file"`
	Keys      []FoundKey `json:"keys"`
	Privilege string     `json:"privilege"`
	Parent    int64      `json:"parent,omitempty"`
}

// FoundKey is a key that a client read in a file.
type FoundKey struct {
	File      string `json:"file"`
	Line      int    `json:"line"`
	Options   string `json:"options"`
	PublicKey string `json:"public_key"` // one line, with its comment
}

// Adopted is the answer: the instance, with the work on it, and the lines that
// the client is to place.
type Adopted struct {
	Instance    Instance `json:"instance"`
	StewardLine string   `json:"steward_line,omitempty"`
	HopLine     string   `json:"hop_line,omitempty"` // for the jump host
}

// LineReport tells the service what became of the steward's line.
type LineReport struct {
	Placed bool   `json:"placed"` // false: it was taken out again
	File   string `json:"file"`
}

// AdoptMany asks for a piece of work that many adoptions are part of.
type AdoptMany struct {
	Count int `json:"count"`
}
