package oci

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const (
	someDigest  = "sha256:660e9de06bc95fcf0424be221276ceafb9bf17dbe3d90af3564e552ff56afdb1"
	otherDigest = "sha256:7281c81a551996aa3488352aa5149567225497b586d595e0e64bb34a2329f815"
)

func TestNamesKeepToTheGrammar(t *testing.T) {
	for _, good := range []string{"a", "timetable/planner", "a/b/c", "a__b", "a---b", "a.b_c-d", "0/9", "a/blobs/uploads", strings.Repeat("a", 255)} {
		_, err := ParseName(good)
		assert.NoError(t, err, good)
	}
	for _, bad := range []string{"", "/", "a/", "/a", "a//b", "A", "a b", "a..b", "a___b", "-a", "a-", "ä", "a\x00", "a/../b", strings.Repeat("a", 256)} {
		_, err := ParseName(bad)
		assert.ErrorIs(t, err, CodeNameInvalid, "%q", bad)
	}
	assert.Equal(t, "timetable", Name("timetable/planner").Namespace())
	assert.Equal(t, "planner", Name("planner").Namespace())
}

func TestReferencesAreReadAndWritten(t *testing.T) {
	for in, want := range map[string]Reference{
		"localhost:7070/a/b:1.0":             {Registry: "localhost:7070", Name: "a/b", Tag: "1.0"},
		"registry.larkspur.example/a":        {Registry: "registry.larkspur.example", Name: "a"},
		"127.0.0.1:7070/a@" + someDigest:     {Registry: "127.0.0.1:7070", Name: "a", Digest: someDigest},
		"localhost/a/b:latest@" + someDigest: {Registry: "localhost", Name: "a/b", Tag: "latest", Digest: someDigest},
		"[::1]:7070/a:x":                     {Registry: "[::1]:7070", Name: "a", Tag: "x"},
	} {
		got, err := ParseReference(in)
		require.NoError(t, err, in)
		assert.Equal(t, want, got, in)
		assert.Equal(t, in, got.String())
	}
	for in, says := range map[string]string{
		"timetable/planner:1":         "names no registry",
		"planner":                     "names no registry",
		"localhost:7070/A:1":          "write a",
		"localhost:7070/a:":           "tag",
		"localhost:7070/a@sha256:abc": "not a digest",
		"local host:1/a":              "not valid",
	} {
		_, err := ParseReference(in)
		assert.ErrorContains(t, err, says, in)
	}
}

func descriptor(mediaType string) string {
	return fmt.Sprintf(`{"mediaType":%q,"digest":%q,"size":7}`, mediaType, someDigest)
}

func TestManifestsAreReadWithAllTheyName(t *testing.T) {
	image := `{"schemaVersion":2,"mediaType":"` + MediaTypeImage + `","config":` + descriptor(MediaTypeConfig) +
		`,"layers":[` + descriptor(MediaTypeLayer) + `,` + descriptor(MediaTypeLayerGzip) + `],"subject":` + descriptor(MediaTypeImage) + `,"annotations":{"a":"b"}}`
	m, err := ParseManifest(MediaTypeImage, []byte(image))
	require.NoError(t, err)
	var relations []Relation
	for _, e := range m.Edges() {
		relations = append(relations, e.Relation)
	}
	assert.Equal(t, []Relation{RelationConfig, RelationLayer, RelationLayer, RelationSubject}, relations)
	assert.Equal(t, MediaTypeConfig, m.ArtifactType, "an image without an artifact type has its config's")
	assert.Equal(t, "b", m.Annotations["a"])

	index, err := ParseManifest("", []byte(`{"schemaVersion":2,"mediaType":"`+MediaTypeIndex+`","manifests":[`+descriptor(MediaTypeImage)+`]}`))
	require.NoError(t, err)
	assert.True(t, index.IsIndex())
	assert.Len(t, index.Children, 1)
}

func TestManifestsThatTwoReadersCouldReadInTwoWaysAreRefused(t *testing.T) {
	config, layer := descriptor(MediaTypeConfig), descriptor(MediaTypeLayer)
	for name, raw := range map[string]string{
		"no JSON":                 `{`,
		"a list":                  `[]`,
		"something behind it":     `{"schemaVersion":2,"config":` + config + `}{}`,
		"a repeated key":          `{"schemaVersion":2,"config":` + config + `,"config":` + config + `}`,
		"a repeated inner key":    `{"schemaVersion":2,"config":{"mediaType":"a/b","digest":"` + someDigest + `","digest":"` + otherDigest + `","size":1}}`,
		"keys in another case":    `{"schemaVersion":2,"Config":` + config + `}`,
		"the first schema":        `{"schemaVersion":1,"config":` + config + `}`,
		"image and index at once": `{"schemaVersion":2,"config":` + config + `,"manifests":[]}`,
		"another media type":      `{"schemaVersion":2,"mediaType":"` + MediaTypeIndex + `","config":` + config + `}`,
		"no size":                 `{"schemaVersion":2,"config":{"mediaType":"a/b","digest":"` + someDigest + `"}}`,
		"a size below zero":       `{"schemaVersion":2,"config":{"mediaType":"a/b","digest":"` + someDigest + `","size":-1}}`,
		"a short digest":          `{"schemaVersion":2,"config":{"mediaType":"a/b","digest":"sha256:00","size":1}}`,
		"layers that are no list": `{"schemaVersion":2,"config":` + config + `,"layers":` + layer + `}`,
		"data that is other data": `{"schemaVersion":2,"config":{"mediaType":"a/b","digest":"` + someDigest + `","size":2,"data":"e30="}}`,
	} {
		_, err := ParseManifest(MediaTypeImage, []byte(raw))
		assert.ErrorIs(t, err, CodeManifestInvalid, name)
	}
	_, err := ParseManifest("application/json", []byte(`{"schemaVersion":2}`))
	assert.ErrorContains(t, err, "not a media type of manifests")
}

func TestAPlatformIsPickedOutOfAnIndex(t *testing.T) {
	of := func(digest Digest, os, architecture, variant string) Descriptor {
		return Descriptor{Digest: digest, Platform: &Platform{OS: os, Architecture: architecture, Variant: variant}}
	}
	children := []Descriptor{of("a", "linux", "amd64", ""), of("b", "linux", "arm", "v6"), of("c", "linux", "arm", "v7"), of("d", "unknown", "unknown", "")}
	for in, want := range map[string]Digest{"linux/amd64": "a", "linux/arm": "b", "linux/arm/v7": "c"} {
		p, err := ParsePlatform(in)
		require.NoError(t, err)
		got, err := PickPlatform(children, p)
		require.NoError(t, err)
		assert.Equal(t, want, got.Digest, in)
	}
	_, err := PickPlatform(children, Platform{OS: "plan9", Architecture: "386"})
	assert.True(t, errors.Is(err, CodeManifestUnknown))
	assert.ErrorContains(t, err, "linux/amd64, linux/arm/v6, linux/arm/v7")
	assert.NotContains(t, err.Error(), "unknown/unknown")
}

func TestATextIsNeverCutInsideACharacter(t *testing.T) {
	text := "Nachtzüge fahren später ·🚆"
	for most := range len(text) + 2 {
		cut := Cut(text, most)
		assert.True(t, utf8.ValidString(cut), "%q", cut)
		assert.LessOrEqual(t, len(cut), most)
		assert.True(t, strings.HasPrefix(text, cut))
		assert.True(t, len(cut) > most-4 || len(text) <= most)
	}
	assert.Empty(t, Cut("🚆", 3))
}
