package oci

import "strings"

// ETag returns the strong entity tag of content (RFC 9110, section 8.8.3).
func ETag(d Digest) string { return `"` + d.String() + `"` }

// ParseIfMatch reads an If-Match header that names one digest, compared strongly (RFC
// 9110, section 13.1.1). It fails with CodeTagMoved for a weak entity tag, which never
// matches, and with CodeQueryInvalid.
func ParseIfMatch(header string) (Digest, error) {
	if strings.HasPrefix(header, "W/") {
		return "", Errorf(CodeTagMoved, "If-Match is compared strongly, and %s is weak; give the digest in quotes", header)
	}
	digest, err := ParseDigest(strings.Trim(header, `"`))
	if err != nil || header != ETag(digest) {
		return "", Errorf(CodeQueryInvalid, "If-Match takes one digest in quotes, such as %s", `"sha256:…"`)
	}
	return digest, nil
}
