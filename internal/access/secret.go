package access

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"encoding/binary"
	"encoding/hex"
	"hash/crc32"
	"regexp"
	"strings"
)

// secretPrefix begins every token, so that one that leaked is recognised wherever
// it turns up: the pattern is warthesis_[a-z2-7]{39}, and the last seven characters
// are a checksum over those before.
const secretPrefix = "warthesis_"

var letters = base32.NewEncoding("abcdefghijklmnopqrstuvwxyz234567").WithPadding(base32.NoPadding)

var secretPattern = regexp.MustCompile(`^warthesis_[a-z2-7]{39}$`)

const checksumLength = 7

// NewSecret returns a new token and the hash by which it is recorded.
func NewSecret() (secret, hash string) {
	var random [20]byte
	rand.Read(random[:])
	body := secretPrefix + letters.EncodeToString(random[:])
	secret = body + checksum(body)
	return secret, hashOf(secret)
}

func checksum(body string) string {
	var sum [4]byte
	binary.BigEndian.PutUint32(sum[:], crc32.ChecksumIEEE([]byte(body)))
	return letters.EncodeToString(sum[:])
}

func hashOf(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// IsSecret reports whether a text is one of our tokens, checksum and all; whether
// it was ever given out is another question.
func IsSecret(s string) bool {
	return secretPattern.MatchString(s) && checksum(s[:len(s)-checksumLength]) == s[len(s)-checksumLength:]
}

// looksLikeSecret tells a token, perhaps a mistyped one, from a password.
func looksLikeSecret(s string) bool { return strings.HasPrefix(s, secretPrefix) }
