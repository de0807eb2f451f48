package oci

import (
	"regexp"
	"strings"
)

var registryPattern = regexp.MustCompile(`^([a-zA-Z0-9]([a-zA-Z0-9.-]*[a-zA-Z0-9])?|\[[0-9a-fA-F:.]+\])(:[0-9]{1,5})?$`)

// Reference names something in a registry in full:
// "host:port/namespace/name:tag@digest". Tag and digest may be empty; where both
// are given the digest decides.
type Reference struct {
	// Registry is the host, with the port where one is given.
	Registry string
	Name     Name
	Tag      Tag
	Digest   Digest
}

// ParseReference reads a reference. The registry's address is not guessed: a name
// without one is refused, so that nothing is sent to a place nobody named.
func ParseReference(s string) (Reference, error) {
	registry, rest, found := strings.Cut(s, "/")
	if !found || !looksLikeHost(registry) {
		return Reference{}, Errorf(CodeNameInvalid, "%s names no registry: start with its address, as in localhost:7070/%s",
			quote(s), strings.TrimPrefix(s, "/"))
	}
	if !registryPattern.MatchString(registry) {
		return Reference{}, Errorf(CodeNameInvalid, "the registry address %s is not valid: write host or host:port", quote(registry))
	}
	ref := Reference{Registry: registry}
	var err error
	if name, digest, found := strings.Cut(rest, "@"); found {
		if ref.Digest, err = ParseDigest(digest); err != nil {
			return Reference{}, err
		}
		rest = name
	}
	if colon := strings.LastIndexByte(rest, ':'); colon > strings.LastIndexByte(rest, '/') {
		if ref.Tag, err = ParseTag(rest[colon+1:]); err != nil {
			return Reference{}, err
		}
		rest = rest[:colon]
	}
	if ref.Name, err = ParseName(rest); err != nil {
		return Reference{}, err
	}
	return ref, nil
}

// ParseRegistry reads the address of a registry alone: host or host:port.
func ParseRegistry(s string) (string, error) {
	if strings.Contains(s, "://") {
		return "", Errorf(CodeNameInvalid, "write the registry address without %s://: host or host:port", strings.SplitN(s, "://", 2)[0])
	}
	if !registryPattern.MatchString(s) || !looksLikeHost(s) {
		return "", Errorf(CodeNameInvalid, "%s is not a registry address: write host or host:port, as in localhost:7070", quote(s))
	}
	return s, nil
}

// looksLikeHost tells an address from the first component of a repository name:
// an address has a dot or a port, or is "localhost".
func looksLikeHost(s string) bool {
	return strings.ContainsAny(s, ".:") || s == "localhost"
}

// Target returns what stands behind the name in protocol paths: the digest where
// there is one, otherwise the tag.
func (r Reference) Target() string {
	if r.Digest != "" {
		return r.Digest.String()
	}
	return string(r.Tag)
}

// Repository returns the reference without tag and digest.
func (r Reference) Repository() Reference {
	return Reference{Registry: r.Registry, Name: r.Name}
}

// WithDigest returns the reference pinned to a digest; a tag stays for readers.
func (r Reference) WithDigest(digest Digest) Reference {
	r.Digest = digest
	return r
}

// String returns the reference as it is written.
func (r Reference) String() string {
	s := r.Registry + "/" + string(r.Name)
	if r.Tag != "" {
		s += ":" + string(r.Tag)
	}
	if r.Digest != "" {
		s += "@" + r.Digest.String()
	}
	return s
}

// CheckTarget fails, with CodeTagInvalid or CodeDigestInvalid, where a text is neither a tag
// nor a digest.
func CheckTarget(s string) error {
	if strings.Contains(s, ":") {
		_, err := ParseDigest(s)
		return err
	}
	_, err := ParseTag(s)
	return err
}
