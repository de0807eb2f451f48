package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/kit"
	"warthesis/internal/oci"
)

func TestWhatIsNamedStaysAndTheAnswerNamesTheHolder(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	config := kit.PutBlob(t, s, "a", []byte("{}"))
	child := kit.PutManifest(t, s, "a", "", oci.MediaTypeImage, kit.Artifact(config, nil, "application/x.one", 1))
	index := v1.Index{MediaType: oci.MediaTypeIndex, Manifests: []oci.Descriptor{child}}
	index.SchemaVersion = 2
	parent := kit.PutManifest(t, s, "a", "latest", oci.MediaTypeIndex, index)

	code, body := kit.Status(s, http.MethodDelete, "/v2/a/blobs/"+config.String())
	assert.Equal(t, http.StatusConflict, code)
	assert.Contains(t, body, child.Digest)
	code, body = kit.Status(s, http.MethodDelete, "/v2/a/manifests/"+child.Digest.String())
	assert.Equal(t, http.StatusConflict, code)
	assert.Contains(t, body, parent.Digest)

	// From the top down all of it goes, at once for every reader.
	code, _ = kit.Status(s, http.MethodDelete, "/v2/a/manifests/"+parent.Digest.String())
	require.Equal(t, http.StatusAccepted, code)
	code, _ = kit.Status(s, http.MethodGet, "/v2/a/manifests/latest")
	assert.Equal(t, http.StatusNotFound, code, "the tag goes with its manifest")
	for _, path := range []string{"/v2/a/manifests/" + child.Digest.String(), "/v2/a/blobs/" + config.String()} {
		code, body = kit.Status(s, http.MethodDelete, path)
		require.Equal(t, http.StatusAccepted, code, body)
		code, _ = kit.Status(s, http.MethodHead, path)
		assert.Equal(t, http.StatusNotFound, code)
		code, _ = kit.Status(s, http.MethodDelete, path)
		assert.Equal(t, http.StatusNotFound, code, "what has gone cannot go again")
	}
	// Pushing a deleted digest revives it, once what it names is there again.
	raw, err := json.Marshal(kit.Artifact(config, nil, "application/x.one", 1))
	require.NoError(t, err)
	answer, _ := s.Do(http.MethodPut, "/v2/a/manifests/back", bytes.NewReader(raw), "Content-Type", oci.MediaTypeImage)
	require.Equal(t, http.StatusNotFound, answer.StatusCode)
	kit.PutBlob(t, s, "a", []byte("{}"))
	again := kit.PutManifest(t, s, "a", "back", oci.MediaTypeImage, kit.Artifact(config, nil, "application/x.one", 1))
	assert.Equal(t, child.Digest, again.Digest)
	code, _ = kit.Status(s, http.MethodGet, "/v2/a/manifests/"+child.Digest.String())
	assert.Equal(t, http.StatusOK, code)
}

func TestReferrersAreListedAlsoWhenTheSubjectComesLater(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	config := kit.PutBlob(t, s, "a", []byte("{}"))
	subject, err := json.Marshal(kit.Artifact(config, nil, "application/x.subject", 0))
	require.NoError(t, err)
	to := oci.Descriptor{MediaType: oci.MediaTypeImage, Digest: oci.DigestOf(oci.SHA256, subject), Size: int64(len(subject))}
	var sent []oci.Digest
	for i := range 3 {
		sent = append(sent, kit.PutManifest(t, s, "a", "", oci.MediaTypeImage, kit.Artifact(config, &to, fmt.Sprintf("application/x.%d", i%2), i)).Digest)
	}
	list := func(path string) (v1.Index, http.Header) {
		answer, body := s.Do(http.MethodGet, path, nil)
		require.Equal(t, http.StatusOK, answer.StatusCode, "%s", body)
		assert.Equal(t, oci.MediaTypeIndex, answer.Header.Get("Content-Type"))
		var index v1.Index
		require.NoError(t, json.Unmarshal(body, &index))
		return index, answer.Header
	}
	of := "/v2/a/referrers/" + to.Digest.String()
	before, _ := list(of)
	assert.Len(t, before.Manifests, 3)
	answer, _ := s.Do(http.MethodPut, "/v2/a/manifests/subject", bytes.NewReader(subject), "Content-Type", oci.MediaTypeImage)
	require.Equal(t, http.StatusCreated, answer.StatusCode)
	after, headers := list(of)
	assert.Equal(t, before, after)
	assert.Empty(t, headers.Get("OCI-Filters-Applied"))
	ones, headers := list(of + "?artifactType=application/x.1")
	require.Len(t, ones.Manifests, 1)
	assert.Equal(t, sent[1], ones.Manifests[0].Digest)
	assert.Equal(t, "1", ones.Manifests[0].Annotations["number"])
	assert.Equal(t, "artifactType", headers.Get("OCI-Filters-Applied"))

	code, _ := kit.Status(s, http.MethodDelete, "/v2/a/manifests/"+sent[0].String())
	require.Equal(t, http.StatusAccepted, code)
	left, _ := list(of)
	assert.Len(t, left.Manifests, 2)
	nobody, _ := list("/v2/never/seen/referrers/" + to.Digest.String())
	assert.Empty(t, nobody.Manifests)
	assert.NotNil(t, nobody.Manifests)
}

func TestListsOfTheProtocolPageByLinks(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	config := kit.PutBlob(t, s, "b", []byte("{}"))
	want := []string{"B", "a", "a.1", "b", "c"}
	for _, tag := range want {
		kit.PutManifest(t, s, "b", tag, oci.MediaTypeImage, kit.Artifact(config, nil, "application/x", 0))
	}
	var got []string
	path := "/v2/b/tags/list?n=2"
	for path != "" {
		answer, body := s.Do(http.MethodGet, path, nil)
		var page struct{ Tags []string }
		require.NoError(t, json.Unmarshal(body, &page))
		got = append(got, page.Tags...)
		path, _, _ = strings.Cut(strings.TrimPrefix(answer.Header.Get("Link"), "<"), ">")
	}
	assert.Equal(t, want, got)
	_, body := kit.Status(s, http.MethodGet, "/v2/b/tags/list?n=0")
	assert.Equal(t, `{"name":"b","tags":[]}`, body)
	kit.PutBlob(t, s, "c/d", []byte("x"))
	_, body = kit.Status(s, http.MethodGet, "/v2/_catalog?n=1")
	assert.Equal(t, `{"repositories":["b"]}`, body)
	_, body = kit.Status(s, http.MethodGet, "/v2/_catalog?n=5&last=b")
	assert.Equal(t, `{"repositories":["c/d"]}`, body)
}

func TestABlobIsMountedOnlyFromWhereItIsHeld(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	d := kit.PutBlob(t, s, "from/here", []byte("shared layer"))
	for query, want := range map[string]int{
		"?mount=" + d.String() + "&from=from/here": http.StatusCreated,
		"?mount=" + d.String():                     http.StatusCreated,
		"?mount=" + d.String() + "&from=nowhere":   http.StatusAccepted,
		"?mount=" + d.String() + "&from=../x":      http.StatusAccepted,
		"?mount=sha256:12":                         http.StatusBadRequest,
	} {
		name := fmt.Sprintf("to/%x", query)
		code, _ := kit.Status(s, http.MethodPost, "/v2/"+name+"/blobs/uploads/"+query)
		assert.Equal(t, want, code, query)
		code, _ = kit.Status(s, http.MethodHead, "/v2/"+name+"/blobs/"+d.String())
		assert.Equal(t, want == http.StatusCreated, code == http.StatusOK, query)
	}
}
