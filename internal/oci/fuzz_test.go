package oci

import (
	"regexp"
	"testing"
)

// The grammars as the standard writes them.
var (
	namePattern = regexp.MustCompile(`^[a-z0-9]+((\.|_|__|-+)[a-z0-9]+)*(\/[a-z0-9]+((\.|_|__|-+)[a-z0-9]+)*)*$`)
	tagPattern  = regexp.MustCompile(`^[a-zA-Z0-9_][a-zA-Z0-9._-]{0,127}$`)
)

func FuzzName(f *testing.F) {
	for _, seed := range []string{"a", "a/b", "a__b", "a___b", "a--b", "a..b", "a-", "-a", "a/", "/", "A", "a_", "a._b", "_x", ".x", "x.y-z", "ä", "a\n"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, in string) {
		if isName(in) != namePattern.MatchString(in) {
			t.Fatalf("the name %q: %v", in, isName(in))
		}
		if len(in) <= MaxTagLength && isTag(in) != tagPattern.MatchString(in) {
			t.Fatalf("the tag %q: %v", in, isTag(in))
		}
	})
}

func FuzzReference(f *testing.F) {
	for _, seed := range []string{"localhost:7070/a/b:1.0", "h.example/a@" + someDigest, "[::1]:1/a:x@" + someDigest, "a/b", "://", "x.y/A:@", "x:/a//b:"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, in string) {
		ref, err := ParseReference(in)
		if err != nil {
			return
		}
		again, err := ParseReference(ref.String())
		if err != nil || again != ref {
			t.Fatalf("%q is read as %+v, and what that writes as %+v, %v", in, ref, again, err)
		}
		if _, err := ParseName(string(ref.Name)); err != nil {
			t.Fatalf("%q has a name outside the grammar: %v", in, err)
		}
	})
}

func FuzzManifest(f *testing.F) {
	config := descriptor(MediaTypeConfig)
	for _, seed := range []string{
		`{"schemaVersion":2,"config":` + config + `,"layers":[` + config + `]}`, `{"schemaVersion":2,"manifests":[]}`, `{"a":1,"a":2}`, `{}`, `[`,
		`{"schemaVersion":2,"config":{"mediaType":"a/b","digest":"` + someDigest + `","size":1e99}}`,
	} {
		f.Add(MediaTypeImage, []byte(seed))
		f.Add(MediaTypeIndex, []byte(seed))
		f.Add("", []byte(seed))
	}
	f.Fuzz(func(t *testing.T, contentType string, raw []byte) {
		m, err := ParseManifest(contentType, raw)
		if err != nil {
			return
		}
		if m.IsIndex() == (m.Config != nil) {
			t.Fatalf("%s is an image and an index at once, or neither", raw)
		}
		for _, e := range m.Edges() {
			if _, err := ParseDigest(e.Digest.String()); err != nil || e.Size < 0 || e.MediaType == "" {
				t.Fatalf("%s names %+v", raw, e)
			}
		}
	})
}
