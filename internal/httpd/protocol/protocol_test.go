package protocol

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"warthesis/internal/oci"
)

func TestPathsAreReadFromTheRight(t *testing.T) {
	for path, want := range map[string]route{
		"":                                  {kind: base},
		"/":                                 {kind: base},
		"/a/b/blobs/sha256:00":              {blobPath, "a/b", "sha256:00"},
		"/a/blobs/uploads/":                 {uploadsPath, "a", ""},
		"/a/blobs/uploads":                  {uploadsPath, "a", ""},
		"/a/blobs/uploads/id":               {uploadPath, "a", "id"},
		"/a/blobs/uploads/blobs/uploads/":   {uploadsPath, "a/blobs/uploads", ""},
		"/a/blobs/uploads/blobs/uploads/id": {uploadPath, "a/blobs/uploads", "id"},
		"/a/blobs/uploads/manifests/latest": {manifestPath, "a/blobs/uploads", "latest"},
		"/tags/list/tags/list":              {tagsPath, "tags/list", ""},
		"/manifests/manifests/manifests":    {manifestPath, "manifests", "manifests"},
		"/a/tags":                           {},
		"/a":                                {},
		"/tags/list":                        {},
	} {
		assert.Equal(t, want, parseRoute(path), path)
	}
}

func TestRangesAreReadAsTheRFCHasThem(t *testing.T) {
	for header, want := range map[string]byteRange{
		"bytes=0-0": {0, 1}, "bytes=10-19": {10, 10}, "bytes=90-": {90, 10}, "bytes=-5": {95, 5}, "bytes=-500": {0, 100}, "bytes=95-500": {95, 5},
	} {
		got, ok, err := parseRange(header, 100)
		assert.NoError(t, err, header)
		assert.True(t, ok, header)
		assert.Equal(t, want, got, header)
	}
	for _, passedOver := range []string{"", "bytes", "lines=1-2", "bytes=1-2,4-5", "bytes=a-b", "bytes=+1-2", "bytes=99999999999999999999-", "bytes=5"} {
		_, ok, err := parseRange(passedOver, 100)
		assert.NoError(t, err, passedOver)
		assert.False(t, ok, passedOver)
	}
	for _, outside := range []string{"bytes=100-", "bytes=200-300", "bytes=-0", "bytes=9-1"} {
		_, _, err := parseRange(outside, 100)
		assert.ErrorIs(t, err, oci.CodeRangeInvalid, outside)
	}
	for _, bad := range []string{"", "5", "5-4", "-5", "a-b", "0-9223372036854775808"} {
		_, err := parseChunkRange(bad)
		assert.ErrorIs(t, err, oci.CodeBlobUploadInvalid, bad)
	}
	got, err := parseChunkRange("bytes 3-5/9")
	assert.NoError(t, err)
	assert.Equal(t, byteRange{3, 3}, got)
}
