package hostkeys

import "golang.org/x/crypto/ssh"

// Algorithms are the host key algorithms that have a server show a key of a type that is pinned, blobs (RFC 4253 section 7.1; RSA keys by the hashes of RFC 8332).
func Algorithms(blobs [][]byte) []string {
	var out []string
	for _, b := range blobs {
		if k, err := ssh.ParsePublicKey(b); err == nil {
			if k.Type() == ssh.KeyAlgoRSA {
				out = append(out, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
			}
			out = append(out, k.Type())
		}
	}
	return out
}
