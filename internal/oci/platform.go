package oci

import (
	"regexp"
	"strings"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
)

// Platform is what an image runs on (image-spec, "Image Index", platform).
type Platform = v1.Platform

var platformPattern = regexp.MustCompile(`^[a-z0-9_]+/[a-z0-9_]+(/[a-z0-9_.]+)?$`)

// ParsePlatform reads "os/architecture" or "os/architecture/variant".
func ParsePlatform(s string) (Platform, error) {
	if !platformPattern.MatchString(s) {
		return Platform{}, Errorf(CodeUnsupported, "%s is not a platform: write os/architecture, as in linux/amd64, or os/architecture/variant", quote(s))
	}
	parts := strings.Split(s, "/")
	p := Platform{OS: parts[0], Architecture: parts[1]}
	if len(parts) == 3 {
		p.Variant = parts[2]
	}
	return p, nil
}

// PlatformString writes a platform as people do, or "" for none.
func PlatformString(p *Platform) string {
	if p == nil || p.OS == "" && p.Architecture == "" {
		return ""
	}
	s := p.OS + "/" + p.Architecture
	if p.Variant != "" {
		s += "/" + p.Variant
	}
	return s
}

// PickPlatform returns the one child of an index that is for the platform. A
// wanted variant must match; where none is wanted, the first match is taken, as
// the standard says (image-spec, "Image Index", manifests). It fails with
// CodeManifestUnknown and names what there is.
func PickPlatform(children []Descriptor, want Platform) (Descriptor, error) {
	var there []string
	for _, child := range children {
		if child.Platform == nil {
			continue
		}
		p := *child.Platform
		if p.OS == want.OS && p.Architecture == want.Architecture && (want.Variant == "" || want.Variant == p.Variant) {
			return child, nil
		}
		if s := PlatformString(&p); s != "" && s != "unknown/unknown" {
			there = append(there, s)
		}
	}
	if len(there) == 0 {
		return Descriptor{}, Errorf(CodeManifestUnknown, "the index names no platforms, so %s cannot be picked", PlatformString(&want))
	}
	return Descriptor{}, Errorf(CodeManifestUnknown, "there is no image for %s; there are %s", PlatformString(&want), strings.Join(there, ", "))
}
