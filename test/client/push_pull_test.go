package client

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/kit"
	"warthesis/internal/oci"
)

type transfer struct {
	Digest       oci.Digest `json:"digest"`
	References   []string   `json:"references"`
	MovedBlobs   int        `json:"moved_blobs"`
	SkippedBlobs int        `json:"skipped_blobs"`
}

func readTransfer(t *testing.T, out string) transfer {
	var report transfer
	require.NoError(t, json.Unmarshal([]byte(out), &report), out)
	return report
}

func TestAnImageComesBackByTagAndByDigestAsItWent(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	image := kit.NewImage(t, kit.Bytes(1, 300_000), kit.Bytes(2, 5_000), nil)
	ref := s.Address + "/timetable/planner"

	first := readTransfer(t, kit.Must(t, "push", "--output", "json", image.Layout(t), ref+":2.4.1", ref+":latest"))
	assert.Equal(t, image.Manifest.Digest, first.Digest)
	assert.Equal(t, []string{ref + ":2.4.1@" + string(first.Digest), ref + ":latest@" + string(first.Digest)}, first.References)
	assert.Equal(t, 4, first.MovedBlobs)

	for _, target := range []string{":2.4.1", ":latest", "@" + string(first.Digest)} {
		to := filepath.Join(t.TempDir(), "out")
		kit.Must(t, "pull", ref+target, to)
		kit.SameFiles(t, image, to)
	}
	second := kit.NewImage(t, kit.Bytes(1, 300_000), kit.Bytes(3, 5_000), nil)
	again := readTransfer(t, kit.Must(t, "push", "--output", "json", second.Layout(t), ref+":2.4.2"))
	assert.Equal(t, 2, again.MovedBlobs, "only the changed layer and the config move")
	assert.Equal(t, 2, again.SkippedBlobs)

	assert.Equal(t, string(image.Raw), kit.Must(t, "show", ref+":latest"))
	assert.Equal(t, string(first.Digest)+"\n", kit.Must(t, "identify", ref+":latest"))
	assert.Contains(t, kit.Must(t, "list", s.Address), "timetable/planner")
	assert.Contains(t, kit.Must(t, "list", ref), "2.4.2")
}

func TestALayerWhoseFileIsDamagedIsMendedByTheNextPush(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	layer := kit.Bytes(4, 50_000)
	image := kit.NewImage(t, layer)
	ref := s.Address + "/timetable/planner:1"
	kit.Must(t, "push", image.Layout(t), ref)
	hex := oci.DigestOf(oci.SHA256, layer).Encoded()
	file := func() string {
		files, err := filepath.Glob(filepath.Join(s.Data, "blobs/sha256", hex[:2], hex+"*"))
		require.NoError(t, err)
		require.Len(t, files, 1)
		require.NoError(t, os.Chmod(files[0], 0o644))
		return files[0]
	}
	for name, damage := range map[string]func() error{
		"cut":     func() error { return os.Truncate(file(), 100) },
		"flipped": func() error { return os.WriteFile(file(), append([]byte{^layer[0]}, layer[1:]...), 0o644) },
	} {
		require.NoError(t, damage())
		answer, body := s.Do(http.MethodGet, "/v2/timetable/planner/blobs/sha256:"+hex, nil)
		assert.Equal(t, http.StatusInternalServerError, answer.StatusCode, name)
		assert.Contains(t, string(body), "STORAGE_FAULT", "nothing of a damaged file is served: %s", name)
		mended(t, s, image, ref)
	}
	// A file that was only touched, as a copied folder is, serves on.
	require.NoError(t, os.Chtimes(file(), time.Now().Add(time.Hour), time.Now().Add(time.Hour)))
	answer, body := s.Do(http.MethodGet, "/v2/timetable/planner/blobs/sha256:"+hex, nil)
	assert.Equal(t, http.StatusOK, answer.StatusCode)
	assert.True(t, bytes.Equal(layer, body))
}

// mended pushes an image again, of which one blob is damaged, and pulls it.
func mended(t *testing.T, s *kit.Service, image kit.Image, ref string) {
	again := readTransfer(t, kit.Must(t, "push", "--output", "json", image.Layout(t), ref))
	assert.Equal(t, 1, again.MovedBlobs)
	to := filepath.Join(t.TempDir(), "out")
	kit.Must(t, "pull", ref, to)
	kit.SameFiles(t, image, to)
}

func TestAManifestUnderSHA512KeepsItsDigestUnderATag(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	image := kit.NewImage(t, kit.Bytes(5, 5_000))
	folder := image.Layout(t)
	d := oci.DigestOf(oci.SHA512, image.Raw)
	require.NoError(t, os.Mkdir(filepath.Join(folder, "blobs/sha512"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "blobs/sha512", d.Encoded()), image.Raw, 0o644))
	index, err := os.ReadFile(filepath.Join(folder, "index.json"))
	require.NoError(t, err)
	index = bytes.ReplaceAll(index, []byte(image.Manifest.Digest), []byte(d))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "index.json"), index, 0o644))

	ref := s.Address + "/timetable/planner"
	kit.Must(t, "push", folder, ref+":1", ref+":latest")
	assert.Equal(t, string(d)+"\n", kit.Must(t, "identify", ref+":1"))
	assert.Equal(t, string(d)+"\n", kit.Must(t, "identify", ref+":latest"))
}

func TestAPullIntoATarCanBePushedAgain(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	image := kit.NewImage(t, kit.Bytes(4, 70_000))
	kit.Must(t, "push", image.Layout(t), s.Address+"/berths/seatmap:1.0.0")
	file := filepath.Join(t.TempDir(), "seatmap.tar")
	kit.Must(t, "pull", s.Address+"/berths/seatmap:1.0.0", file)
	report := readTransfer(t, kit.Must(t, "push", "--output", "json", file, s.Address+"/berths/copy:1.0.0"))
	assert.Equal(t, image.Manifest.Digest, report.Digest)
	assert.NoDirExists(t, file+".partial")
}

func TestATarThatAnEngineSavedIsPushed(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	layer, config := kit.Bytes(5, 20_480), []byte(`{"os":"linux","architecture":"arm64","rootfs":{"type":"layers","diff_ids":[]}}`)
	file := filepath.Join(t.TempDir(), "saved.tar")
	out, err := os.Create(file)
	require.NoError(t, err)
	w := tar.NewWriter(out)
	for _, f := range []struct {
		name string
		raw  []byte
	}{
		{"abc.json", config}, {"one/layer.tar", layer},
		{"manifest.json", []byte(`[{"Config":"abc.json","RepoTags":["board:1.0"],"Layers":["one/layer.tar"]}]`)},
	} {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: f.name, Mode: 0o644, Size: int64(len(f.raw))}))
		_, err := w.Write(f.raw)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	require.NoError(t, out.Close())

	kit.Must(t, "push", file, s.Address+"/timetable/board:1.0")
	to := filepath.Join(t.TempDir(), "out")
	kit.Must(t, "pull", "--platform", "linux/arm64", s.Address+"/timetable/board:1.0", to)
	got, err := os.ReadFile(filepath.Join(to, "blobs/sha256", oci.DigestOf(oci.SHA256, layer).Encoded()))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(layer, got))

	wrong := kit.Run(t, "identify", "--platform", "linux/amd64", s.Address+"/timetable/board:1.0")
	assert.Equal(t, 4, wrong.Code)
	assert.Contains(t, wrong.Err, "there are linux/arm64")
}

// between lets a test change what passes between client and service.
func between(t *testing.T, s *kit.Service, change func(*http.Response) error) string {
	to, err := url.Parse(s.URL(""))
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(to)
	proxy.ModifyResponse = change
	proxy.ErrorHandler = func(w http.ResponseWriter, _ *http.Request, _ error) { w.WriteHeader(http.StatusBadGateway) }
	server := httptest.NewServer(proxy)
	t.Cleanup(server.Close)
	address := strings.TrimPrefix(server.URL, "http://")
	kit.LogInAs(t, address, kit.Admin, kit.Password)
	return address
}

func TestAByteFlippedOnTheWayIsFoundByTheClient(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	image := kit.NewImage(t, kit.Bytes(6, 100_000))
	kit.Must(t, "push", image.Layout(t), s.Address+"/base/os:1")
	address := between(t, s, func(answer *http.Response) error {
		if !strings.Contains(answer.Request.URL.Path, "/blobs/") || answer.ContentLength < 50_000 {
			return nil
		}
		raw, err := io.ReadAll(answer.Body)
		raw[12_345] ^= 1
		answer.Body = io.NopCloser(bytes.NewReader(raw))
		return err
	})
	to := filepath.Join(t.TempDir(), "out")
	r := kit.Run(t, "pull", address+"/base/os:1", to)
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Err, "something else")
	for d, raw := range image.Blobs {
		if len(raw) > 50_000 {
			assert.NoFileExists(t, filepath.Join(to, "blobs/sha256", d.Encoded()))
		}
	}
	kit.Must(t, "pull", s.Address+"/base/os:1", to)
	kit.SameFiles(t, image, to)
}

func TestAPullThatBrokeGoesOnWhereItStopped(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	big := kit.Bytes(7, 3_000_000)
	image := kit.NewImage(t, big)
	kit.Must(t, "push", image.Layout(t), s.Address+"/base/os:1")
	var ranges []string
	broken := false
	address := between(t, s, func(answer *http.Response) error {
		if answer.Request.Method != http.MethodGet || !strings.HasSuffix(answer.Request.URL.Path, oci.DigestOf(oci.SHA256, big).String()) {
			return nil
		}
		ranges = append(ranges, answer.Request.Header.Get("Range"))
		if !broken {
			broken = true
			answer.Body = &brokenBody{answer.Body, 1_000_000}
		}
		return nil
	})
	to := filepath.Join(t.TempDir(), "out")
	kit.Must(t, "pull", address+"/base/os:1", to)
	kit.SameFiles(t, image, to)
	require.Len(t, ranges, 2)
	var from int
	_, err := fmt.Sscanf(ranges[1], "bytes=%d-", &from)
	require.NoError(t, err, ranges[1])
	assert.Positive(t, from, "the second request asks for the rest only")
}

// brokenBody breaks off after some bytes.
type brokenBody struct {
	io.ReadCloser
	left int
}

func (b *brokenBody) Read(p []byte) (int, error) {
	if b.left <= 0 {
		return 0, io.ErrUnexpectedEOF
	}
	n, err := b.ReadCloser.Read(p[:min(len(p), b.left)])
	b.left -= n
	return n, err
}

func TestWrongUseIsSaidPlainlyAndByExitCode(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	layout := kit.NewImage(t, kit.Bytes(8, 100)).Layout(t)
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"push", layout, "timetable/planner:1"}, 2, "names no registry"},
		{[]string{"push", layout, s.Address + "/timetable/planner"}, 2, "names no tag"},
		{[]string{"push", layout, s.Address + "/Timetable/planner:1"}, 2, "write timetable/planner"},
		{[]string{"push", layout + "/nothing", s.Address + "/a:1"}, 1, "no such file"},
		{[]string{"push", t.TempDir(), s.Address + "/a:1"}, 1, "neither an OCI image layout"},
		{[]string{"pull", s.Address + "/a:1", t.TempDir() + "/out"}, 4, "there is no repository a"},
		{[]string{"list", s.Address + "/nothing"}, 4, "there is no namespace nothing"},
		{[]string{"list", "127.0.0.1:1"}, 1, "does not answer"},
		{[]string{"identify", "127.0.0.1:1/a:1"}, 1, "does not answer"},
		{[]string{"frobnicate"}, 2, "no command"},
		{[]string{"list"}, 2, "no registry is named"},
		{[]string{"list", s.Address, "--output", "xml"}, 2, "it is table or json"},
		{[]string{"serve", "--data", s.Data, "--listen", "127.0.0.1:0"}, 1, "another warthesis process"},
		{[]string{"serve", "--data", t.TempDir(), "--listen", "0.0.0.0:0"}, 2, "--listen-unencrypted"},
	} {
		r := kit.Run(t, c.args...)
		assert.Equal(t, c.code, r.Code, "%v", c.args)
		assert.Contains(t, r.Err, c.says, "%v", c.args)
	}
}

// In a terminal the client draws bars, which must end with the transfer, also for
// blobs that are empty or there already.
func TestBarsInATerminalEndWithTheTransfer(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	layout := kit.NewImage(t, kit.Bytes(9, 50_000), nil).Layout(t)
	for _, outcome := range []string{"sent", "already there"} {
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		line := fmt.Sprintf("stty rows 40 cols 120; %s push %s %s/a/b:1", kit.Binary(t), layout, s.Address)
		terminal := exec.CommandContext(ctx, "script", "--quiet", "--return", "--command", line, "/dev/null")
		terminal.Env = kit.ClientEnvironment()
		out, err := terminal.CombinedOutput()
		cancel()
		require.NoError(t, err, "%s", out)
		assert.Contains(t, string(out), outcome)
		assert.Contains(t, string(out), "Reference: "+s.Address+"/a/b:1@sha256:")
	}
}
