package oci

import (
	_ "crypto/sha256" // the algorithms that Digest accepts
	_ "crypto/sha512"
	"regexp"

	"github.com/opencontainers/go-digest"
)

// Digest is the digest of content, "algorithm:hex" (image-spec, "Digests").
type Digest = digest.Digest

// Algorithm is the algorithm of a digest.
type Algorithm = digest.Algorithm

// The registered algorithms that are accepted (image-spec, "Registered Algorithms").
const (
	SHA256 = digest.SHA256
	SHA512 = digest.SHA512
)

var digestPattern = regexp.MustCompile(`^(sha256:[a-f0-9]{64}|sha512:[a-f0-9]{128})$`)

// ParseDigest checks a digest. It fails with CodeDigestInvalid.
func ParseDigest(s string) (Digest, error) {
	if !digestPattern.MatchString(s) {
		return "", Errorf(CodeDigestInvalid, "%s is not a digest: write sha256: and 64 hex digits in lower case, or sha512: and 128", quote(s))
	}
	return Digest(s), nil
}

// DigestOf returns the digest of the bytes.
func DigestOf(algorithm Algorithm, raw []byte) Digest { return algorithm.FromBytes(raw) }

// ParseAlgorithm checks the name of a digest algorithm. It fails with CodeDigestInvalid.
func ParseAlgorithm(s string) (Algorithm, error) {
	switch a := Algorithm(s); a {
	case SHA256, SHA512:
		return a, nil
	}
	return "", Errorf(CodeDigestInvalid, "the digest algorithm %s is not known here; use sha256 or sha512", quote(s))
}
