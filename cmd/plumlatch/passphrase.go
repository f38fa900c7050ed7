package main

import (
	"crypto/rand"
	"strings"
)

// randomPassphrase returns 125 random bits in groups that can be typed.
func randomPassphrase() string {
	const letters = "abcdefghjkmnpqrstuvwxyz23456789+" // 32, without look-alikes
	b := make([]byte, 25)
	_, _ = rand.Read(b) // never fails
	var out strings.Builder
	for i, x := range b {
		if i > 0 && i%5 == 0 {
			out.WriteByte(' ')
		}
		out.WriteByte(letters[x&31])
	}
	return out.String()
}

// common are beginnings that everybody tries first.
var common = []string{"password", "passphrase", "passwort", "letmein", "welcome", "secret", "changeme", "qwerty",
	"asdf", "12345", "abcd", "admin", "root", "test"}

// trivial says why a passphrase is trivial, or "".
func trivial(pass, name string) string {
	lower := strings.ToLower(pass)
	switch {
	case len(pass) < 8:
		return "it is shorter than eight characters"
	case strings.Trim(lower, lower[:1]) == "":
		return "it is one character over and over"
	case strings.Trim(lower, "0123456789") == "" && len(pass) < 16:
		return "it is a short number"
	case strings.Contains(lower, strings.ToLower(name)) || strings.Contains(strings.ToLower(name), lower):
		return "it is the key's name, or holds it"
	}
	for _, c := range common {
		if strings.HasPrefix(lower, c) && len(pass) < len(c)+6 {
			return "it begins as the most common ones do"
		}
	}
	return ""
}

// givesAway says what a comment tells about its holder, or "".
func givesAway(comment string) string {
	_, host, ok := strings.Cut(comment, "@")
	switch {
	case !ok || strings.ContainsAny(comment, " \t"):
		return ""
	case strings.Contains(host, "."):
		return "a user and a machine, or an address of mail"
	}
	return "a user name and a machine's name"
}
