package secret

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"strings"
)

// New makes a token of 160 random bits, with a prefix that says what it is for.
func New(prefix string) string {
	b := make([]byte, 20)
	_, _ = rand.Read(b) // it never fails: without random numbers the program ends
	return prefix + strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(b))
}

// Hash is the stored form of a token. A token is random, so one round of SHA-256 is enough.
func Hash(token string) []byte {
	h := sha256.Sum256([]byte(token))
	return h[:]
}

// Prefixes of the kinds of tokens.
const (
	PersonPrefix = "lan-person-"
	HostPrefix   = "lan-host-"
	InvitePrefix = "lan-invite-"
)
