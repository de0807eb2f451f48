package passwords

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"strings"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"

	"warthesis/internal/oci"
)

// The cost of a password's hash (RFC 9106): memory in KiB and passes.
const (
	hashMemory = 19 << 10
	hashPasses = 2
	hashLength = 32
	saltLength = 16
)

func argon(password string, salt []byte) []byte {
	return argon2.IDKey([]byte(password), salt, hashPasses, hashMemory, 1, hashLength)
}

var raw64 = base64.RawStdEncoding

// NewHash is HashPassword for a program that serves nobody.
func NewHash(password string) string {
	salt := make([]byte, saltLength)
	rand.Read(salt)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=1$%s$%s", argon2.Version, hashMemory, hashPasses, raw64.EncodeToString(salt), raw64.EncodeToString(argon(password, salt)))
}

// nobodysHash is compared with where there is no account: the work is the same.
var nobodysHash = "$argon2id$v=19$m=19456,t=2,p=1$" + strings.Repeat("A", 22) + "$" + strings.Repeat("A", 43)

// Matches reports whether the password is that of the hash. An empty hash is no password's.
func Matches(password, kept string) (bool, error) {
	fits := kept != ""
	if !fits {
		kept = nobodysHash
	}
	parts := strings.Split(kept, "$")
	if len(parts) != 6 {
		return false, fmt.Errorf("a password's hash is not in its form")
	}
	salt, err := raw64.DecodeString(parts[4])
	if err != nil {
		return false, err
	}
	want, err := raw64.DecodeString(parts[5])
	if err != nil {
		return false, err
	}
	return subtle.ConstantTimeCompare(argon(password, salt), want) == 1 && fits, nil
}

// The bounds of a password: the fewest characters and the most bytes.
const (
	leastPassword = 10
	MostPassword  = 1024
)

// leastBesideName is how many characters it has besides the account's name.
const leastBesideName = 6

// CheckPassword refuses passwords that are too easy to guess.
func CheckPassword(account, password string) error {
	switch {
	case utf8.RuneCountInString(password) < leastPassword:
		return oci.Errorf(oci.CodeQueryInvalid, "the password has fewer than %d characters; take a longer one", leastPassword)
	case len(password) > MostPassword:
		return oci.Errorf(oci.CodeQueryInvalid, "the password has more than %d bytes; take a shorter one", MostPassword)
	case utf8.RuneCountInString(strings.ReplaceAll(strings.ToLower(password), strings.ToLower(account), "")) < leastBesideName:
		return oci.Errorf(oci.CodeQueryInvalid, "the password is hardly more than the account's name; take another")
	case sameCharacters(password):
		return oci.Errorf(oci.CodeQueryInvalid, "the password has fewer than 5 different characters; take another")
	}
	return nil
}

func sameCharacters(s string) bool {
	seen := map[rune]bool{}
	for _, r := range s {
		seen[r] = true
	}
	return len(seen) < 5
}
