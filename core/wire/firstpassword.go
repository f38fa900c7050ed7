package wire

import "time"

// FirstPassword is what is known of the first password of an instance without SSH, and never itself.
type FirstPassword struct {
	Key         string     `json:"key,omitempty"`         // that it is encrypted to
	Fingerprint string     `json:"fingerprint,omitempty"` // of that key
	HandedAt    *time.Time `json:"handed_at,omitempty"`   // the cipher text was last handed over
	HandedTo    string     `json:"handed_to,omitempty"`
	ChangedAt   *time.Time `json:"changed_at,omitempty"` // somebody recorded that it was changed
	ChangedBy   string     `json:"changed_by,omitempty"`
}

// SealedPassword is the first password of an instance, as it is encrypted to its launch key: RSAES-PKCS1-v1_5, in base64.
type SealedPassword struct {
	Instance    string     `json:"instance"`
	LoginUser   string     `json:"login_user"`
	Address     string     `json:"address"`
	Port        int        `json:"port"` // the remote desktop's
	Key         string     `json:"key,omitempty"`
	Fingerprint string     `json:"fingerprint,omitempty"`
	CipherText  string     `json:"cipher_text"`
	ChangedAt   *time.Time `json:"changed_at,omitempty"`
}
