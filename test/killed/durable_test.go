package killed

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/kit"
	"warthesis/internal/oci"
)

func TestAnUploadGoesOnFromItsOffsetAfterAKill(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	raw := kit.Bytes(20, 5<<20)
	at := kit.StartUpload(t, s, "rolling/telemetry")
	answer, body := s.Do(http.MethodPatch, at, bytes.NewReader(raw[:2<<20]))
	require.Equal(t, http.StatusAccepted, answer.StatusCode, "%s", body)

	// The second piece is on its way when the service dies.
	var sent atomic.Int64
	reader, writer := io.Pipe()
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		_, _, _ = s.Try(http.MethodPatch, at, reader)
	}()
	go func() {
		for part := raw[2<<20 : 4<<20]; len(part) > 0; part = part[64<<10:] {
			if _, err := writer.Write(part[:64<<10]); err != nil {
				return
			}
			sent.Add(64 << 10)
		}
	}()
	kit.Eventually(t, "a megabyte is on its way", func() bool { return sent.Load() >= 1<<20 })
	s.Kill()
	writer.CloseWithError(io.ErrClosedPipe)
	<-ended

	s.Restart()
	answer, _ = s.Do(http.MethodGet, at, nil)
	require.Equal(t, http.StatusNoContent, answer.StatusCode)
	require.Equal(t, fmt.Sprintf("0-%d", 2<<20-1), answer.Header.Get("Range"), "what was acknowledged is there, and nothing that was not")
	digest := oci.DigestOf(oci.SHA256, raw)
	answer, _ = s.Do(http.MethodHead, "/v2/rolling/telemetry/blobs/"+digest.String(), nil)
	require.Equal(t, http.StatusNotFound, answer.StatusCode, "nothing half-written shows")
	answer, body = s.Do(http.MethodPut, at+"?digest="+digest.String(), bytes.NewReader(raw[2<<20:]),
		"Content-Range", fmt.Sprintf("%d-%d", 2<<20, len(raw)-1))
	require.Equal(t, http.StatusCreated, answer.StatusCode, "%s", body)
	_, got := s.Do(http.MethodGet, "/v2/rolling/telemetry/blobs/"+digest.String(), nil)
	assert.True(t, bytes.Equal(raw, got))
}

func TestEverythingIsThereAfterAKillAndAfterAStop(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	image := kit.NewImage(t, kit.Bytes(21, 100_000), kit.Bytes(22, 200))
	kit.Must(t, "push", image.Layout(t), s.Address+"/signals/relay:4.0.0")
	s.Kill()
	s.Restart()
	first := filepath.Join(t.TempDir(), "first")
	kit.Must(t, "pull", s.Address+"/signals/relay:4.0.0", first)
	kit.SameFiles(t, image, first)
	s.Stop()
	s.Restart()
	assert.Contains(t, kit.Must(t, "list", "--output", "json", s.Address), `"pulls": 1`, "the pull was counted and kept")
	leftovers, err := os.ReadDir(filepath.Join(s.Data, "incoming"))
	require.NoError(t, err)
	assert.Empty(t, leftovers)
}

func TestWhatDoesNotFitIsRefusedAndLeavesNothing(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	raw := []byte("a layer of a few bytes")
	right, wrong := oci.DigestOf(oci.SHA256, raw).String(), oci.DigestOf(oci.SHA256, []byte("other")).String()
	manifest := func(config string) string {
		return `{"schemaVersion":2,"mediaType":"` + oci.MediaTypeImage + `","config":{"mediaType":"application/x","digest":"` + config + `","size":22},"layers":[]}`
	}
	image := []string{"Content-Type", oci.MediaTypeImage}
	for _, c := range []struct {
		name, method, path, body string
		headers                  []string
		status                   int
		code                     oci.Code
	}{
		{"another digest", "POST", "/v2/a/blobs/uploads/?digest=" + wrong, string(raw), nil, 400, oci.CodeDigestInvalid},
		{"no digest at all", "POST", "/v2/a/blobs/uploads/?digest=sha256:12", string(raw), nil, 400, oci.CodeDigestInvalid},
		{"a name with capitals", "POST", "/v2/A/blobs/uploads/", "", nil, 400, oci.CodeNameInvalid},
		{"a tag outside the grammar", "PUT", "/v2/a/manifests/.x", manifest(right), image, 400, oci.CodeTagInvalid},
		{"a manifest whose config is missing", "PUT", "/v2/a/manifests/x", manifest(right), image, 404, oci.CodeManifestBlobUnknown},
		{"a manifest of another type", "PUT", "/v2/a/manifests/x", manifest(right), []string{"Content-Type", oci.MediaTypeIndex}, 400, oci.CodeManifestInvalid},
		{"a manifest that is none", "PUT", "/v2/a/manifests/x", "[]", image, 400, oci.CodeManifestInvalid},
		{"a manifest with another digest", "PUT", "/v2/a/manifests/" + wrong, manifest(right), image, 400, oci.CodeDigestInvalid},
		{"a manifest over the limit", "PUT", "/v2/a/manifests/x", `{"schemaVersion":2,` + strings.Repeat(" ", 4<<20) + `}`, image, 413, oci.CodeManifestTooLarge},
		{"an upload that never was", "PATCH", "/v2/a/blobs/uploads/0123", "x", nil, 404, oci.CodeBlobUploadUnknown},
		{"an upload of a path", "PATCH", "/v2/a/blobs/uploads/..%2f..%2fwarthesis.db", "x", nil, 404, oci.CodeNameUnknown},
		{"a page of no number", "GET", "/v2/a/tags/list?n=many", "", nil, 400, oci.CodeQueryInvalid},
		{"an unknown path", "GET", "/v2/a", "", nil, 404, oci.CodeNameUnknown},
		{"a method that is none here", "PUT", "/v2/a/blobs/" + right, "", nil, 405, oci.CodeUnsupported},
	} {
		answer, body := s.Do(c.method, c.path, strings.NewReader(c.body), c.headers...)
		assert.Equal(t, c.status, answer.StatusCode, "%s: %s", c.name, body)
		assert.Contains(t, string(body), `"code":"`+string(c.code)+`"`, c.name)
	}
	assert.Equal(t, "[]\n", kit.Must(t, "list", "--output", "json", s.Address), "no repository came of it")
	var files []string
	require.NoError(t, filepath.WalkDir(s.Data, func(path string, entry os.DirEntry, err error) error {
		if err == nil && entry.Type().IsRegular() && !strings.Contains(path, "warthesis.db") && !strings.Contains(path, "/keys/") && entry.Name() != "lock" && entry.Name() != "folders-ready" && entry.Name() != "generation" {
			files = append(files, path)
		}
		return err
	}))
	assert.Empty(t, files, "no file came of it")
}

func TestChunksOutOfOrderAreRefusedWithTheRightRange(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	at := kit.StartUpload(t, s, "a")
	answer, _ := s.Do(http.MethodPatch, at, strings.NewReader("0123456789"), "Content-Range", "0-9")
	require.Equal(t, http.StatusAccepted, answer.StatusCode)
	for _, wrong := range []string{"5-9", "20-24", "0-4"} {
		answer, _ = s.Do(http.MethodPatch, at, strings.NewReader("01234"), "Content-Range", wrong)
		assert.Equal(t, http.StatusRequestedRangeNotSatisfiable, answer.StatusCode, wrong)
		assert.Equal(t, "0-9", answer.Header.Get("Range"), wrong)
		assert.Equal(t, at, answer.Header.Get("Location"), wrong)
	}
	answer, _ = s.Do(http.MethodDelete, at, nil)
	assert.Equal(t, http.StatusNoContent, answer.StatusCode)
	answer, _ = s.Do(http.MethodGet, at, nil)
	assert.Equal(t, http.StatusNotFound, answer.StatusCode)
}

func TestANewRequestCutsTheOneThatStillSends(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	at := kit.StartUpload(t, s, "a")
	reader, writer := io.Pipe()
	status := make(chan int, 1)
	go func() {
		answer, _, err := s.Try(http.MethodPatch, at, reader)
		if err != nil {
			status <- 0
			return
		}
		status <- answer.StatusCode
	}()
	_, err := writer.Write(make([]byte, 256<<10))
	require.NoError(t, err)
	// The first sender says nothing more and does not end; whoever asks gets an answer all the same.
	answer, _ := s.Do(http.MethodGet, at, nil)
	require.Equal(t, http.StatusNoContent, answer.StatusCode)
	writer.CloseWithError(io.ErrClosedPipe)
	assert.NotEqual(t, http.StatusAccepted, <-status)
}

func TestTheServiceStopsWithinItsBoundWhileSomebodySends(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir(), "--stop-within", "300ms")
	at := kit.StartUpload(t, s, "a")
	reader, writer := io.Pipe()
	defer writer.Close()
	go func() { _, _, _ = s.Try(http.MethodPatch, at, reader) }()
	_, err := writer.Write(make([]byte, 128<<10))
	require.NoError(t, err)
	s.Stop()
}

// Records that are missing or empty beside stored blobs are no new registry.
func TestMissingRecordsBesideBlobsAreNoNewRegistry(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	image := kit.NewImage(t, kit.Bytes(31, 1000))
	kit.Must(t, "push", image.Layout(t), s.Address+"/signals/relay:4.0.0")
	s.Stop()
	records := filepath.Join(s.Data, "warthesis.db")
	kept, err := os.ReadFile(records)
	require.NoError(t, err)
	for says, harm := range map[string]func() error{
		"missing": func() error { return os.Remove(records) },
		"empty":   func() error { return os.WriteFile(records, nil, 0o600) },
	} {
		require.NoError(t, harm(), says)
		said := s.RefusesToStart()
		assert.Contains(t, said, "missing or empty", says)
		assert.Contains(t, said, "--new-records", says)
	}
	// Restored, all is there.
	require.NoError(t, os.WriteFile(records, kept, 0o600))
	s.Restart()
	kit.Must(t, "pull", s.Address+"/signals/relay:4.0.0", filepath.Join(t.TempDir(), "there"))
	s.Stop()
	require.NoError(t, os.Remove(records))
	s.RestartOnceWith("--new-records")
	answer, _ := s.Do(http.MethodGet, "/v2/signals/relay/manifests/4.0.0", nil)
	assert.Equal(t, http.StatusUnauthorized, answer.StatusCode, "the records are new")
	s.Stop()

	// Records of another registry are not taken for its own.
	other := kit.Start(t, t.TempDir())
	other.Stop()
	raw, err := os.ReadFile(filepath.Join(other.Data, "warthesis.db"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(records, raw, 0o600))
	assert.Contains(t, s.RefusesToStart(), "belong to another registry")
}

// Nobody else on the machine can read the data folder, whatever the umask was, and whatever
// the modes were before.
func TestTheDataFolderIsPrivate(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, filepath.Join(t.TempDir(), "a", "data"))
	image := kit.NewImage(t, kit.Bytes(32, 1000))
	kit.Must(t, "push", image.Layout(t), s.Address+"/signals/relay:4.0.0")
	kit.StartUpload(t, s, "signals/relay")
	loose := func() (open []string) {
		require.NoError(t, filepath.WalkDir(s.Data, func(path string, entry os.DirEntry, err error) error {
			if err != nil {
				return err
			}
			info, err := entry.Info()
			if err == nil && info.Mode().Perm()&0o077 != 0 {
				open = append(open, fmt.Sprintf("%s %o", path, info.Mode().Perm()))
			}
			return err
		}))
		return open
	}
	assert.Empty(t, loose())
	s.Stop()
	assert.Empty(t, loose())
	for _, name := range []string{"", "blobs", "blobs/sha256", "blobs/sha256/ab", "keys", "incoming"} {
		require.NoError(t, os.Chmod(filepath.Join(s.Data, name), 0o755))
	}
	require.NoError(t, os.Chmod(filepath.Join(s.Data, "warthesis.db"), 0o644))
	doctor := kit.Run(t, "doctor", "--service", "--config", settingsFor(t, s.Data))
	assert.Equal(t, 5, doctor.Code)
	assert.Contains(t, doctor.Out+doctor.Err, "other users of this machine")
	s.Restart()
	assert.Contains(t, s.Log(), "other users of this machine could read parts of the data folder")
	assert.Empty(t, loose())
}

func settingsFor(t *testing.T, data string) string {
	at := filepath.Join(t.TempDir(), "warthesis.yaml")
	require.NoError(t, os.WriteFile(at, []byte("data: "+data+"\nlisten: 127.0.0.1:0\n"), 0o600))
	return at
}
