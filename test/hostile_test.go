package test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/kit"
	"warthesis/internal/oci"
)

func TestASenderThatStallsIsCutAndAnHonestSlowOneIsNot(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir(), "--body-idle", "500ms", "--header-within", "1s")
	slow := kit.StartUpload(t, s, "a")
	reader, writer := io.Pipe()
	go func() {
		for range 8 {
			_, _ = writer.Write([]byte("drop"))
			time.Sleep(150 * time.Millisecond)
		}
		writer.Close()
	}()
	answer, body := s.Do(http.MethodPatch, slow, reader)
	assert.Equal(t, http.StatusAccepted, answer.StatusCode, "%s", body)
	assert.Equal(t, "0-31", answer.Header.Get("Range"))

	stalled := kit.StartUpload(t, s, "a")
	conn, err := net.Dial("tcp", s.Address)
	require.NoError(t, err)
	defer conn.Close()
	fmt.Fprintf(conn, "PATCH %s HTTP/1.1\r\nHost: x\r\nAuthorization: %s\r\nContent-Length: 1000\r\n\r\nhello", stalled, kit.AdminHeader)
	require.NoError(t, conn.SetReadDeadline(time.Now().Add(20*time.Second)))
	said, _ := io.ReadAll(conn)
	assert.Contains(t, string(said), "stopped waiting")
	answer, _ = s.Do(http.MethodGet, stalled, nil)
	assert.Equal(t, "0-4", answer.Header.Get("Range"), "what came is kept")

	silent, err := net.Dial("tcp", s.Address)
	require.NoError(t, err)
	defer silent.Close()
	fmt.Fprint(silent, "GET /v2/ HTTP/1.1\r\n")
	require.NoError(t, silent.SetReadDeadline(time.Now().Add(20*time.Second)))
	_, err = io.ReadAll(silent)
	assert.NoError(t, err, "who does not finish its headers is hung up on")
}

func TestLyingLengthsAndDigestsLeaveNothing(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	conn, err := net.Dial("tcp", s.Address)
	require.NoError(t, err)
	raw := []byte("shorter than it says")
	d := oci.DigestOf(oci.SHA256, raw)
	fmt.Fprintf(conn, "POST /v2/a/blobs/uploads/?digest=%s HTTP/1.1\r\nHost: x\r\nAuthorization: %s\r\nContent-Length: 5000\r\n\r\n%s", d, kit.AdminHeader, raw)
	require.NoError(t, conn.(*net.TCPConn).CloseWrite())
	said, _ := io.ReadAll(conn)
	conn.Close()
	assert.NotContains(t, string(said), " 201 ")
	code, _ := kit.Status(s, http.MethodHead, "/v2/a/blobs/"+d.String())
	assert.Equal(t, http.StatusNotFound, code)
	names, err := os.ReadDir(filepath.Join(s.Data, "incoming"))
	require.NoError(t, err)
	assert.Empty(t, names)
}

func TestManyPushesOfOneDigestAndOneTagEndWell(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	raw := kit.Bytes(40, 400_000)
	d := oci.DigestOf(oci.SHA256, raw)
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() {
			answer, body, err := s.Try(http.MethodPost, fmt.Sprintf("/v2/r%d/blobs/uploads/?digest=%s", i%3, d), bytes.NewReader(raw))
			if assert.NoError(t, err) {
				assert.Equal(t, http.StatusCreated, answer.StatusCode, "%s", body)
			}
		})
	}
	all.Wait()
	config := kit.PutBlob(t, s, "r0", []byte("{}"))
	pushed := make([]oci.Digest, 10)
	for i := range pushed {
		all.Go(func() {
			pushed[i] = kit.PutManifest(t, s, "r0", "latest", oci.MediaTypeImage, kit.Artifact(config, nil, "application/x", i)).Digest
		})
	}
	all.Wait()
	_, got := s.Do(http.MethodGet, "/v2/r0/manifests/latest", nil)
	assert.Contains(t, pushed, oci.DigestOf(oci.SHA256, got), "the tag points to one of them")
	_, got = s.Do(http.MethodGet, "/v2/r1/blobs/"+d.String(), nil)
	assert.True(t, bytes.Equal(raw, got))
}

// metric reads one number that the service tells of itself.
func metric(t *testing.T, s *kit.Service, name string) float64 {
	_, raw := s.Do(http.MethodGet, "/metrics", nil)
	found := regexp.MustCompile(`(?m)^` + name + ` (\S+)$`).FindSubmatch(raw)
	require.NotNil(t, found, "%s", raw)
	n, err := strconv.ParseFloat(string(found[1]), 64)
	require.NoError(t, err)
	return n
}

func TestAThousandAbortedRequestsLeaveNothingBehind(t *testing.T) {
	s := kit.Start(t, t.TempDir())
	raw := kit.Bytes(41, 2<<20)
	d := kit.PutBlob(t, s, "a", raw)
	before := metric(t, s, "go_goroutines")
	var all sync.WaitGroup
	for i := range 10 {
		all.Go(func() {
			for j := range 100 {
				ctx, cancel := context.WithTimeout(context.Background(), time.Duration(1+(i*j)%7)*time.Millisecond)
				request, err := http.NewRequestWithContext(ctx, http.MethodGet, s.URL("/v2/a/blobs/"+d.String()), nil)
				if j%2 == 0 {
					request, err = http.NewRequestWithContext(ctx, http.MethodPost, s.URL("/v2/a/blobs/uploads/?digest="+d.String()), bytes.NewReader(raw))
				}
				assert.NoError(t, err)
				request.SetBasicAuth(kit.Admin, kit.Password)
				if answer, err := http.DefaultClient.Do(request); err == nil {
					_, _ = io.Copy(io.Discard, answer.Body)
					answer.Body.Close()
				}
				cancel()
			}
		})
	}
	all.Wait()
	http.DefaultClient.CloseIdleConnections()
	kit.Eventually(t, "as many goroutines run as before", func() bool { return metric(t, s, "go_goroutines") <= before+2 })
	kit.Eventually(t, "all files are closed", func() bool { return metric(t, s, "process_open_fds") < 60 })
	names, err := os.ReadDir(filepath.Join(s.Data, "incoming"))
	require.NoError(t, err)
	assert.Empty(t, names)
	assert.NotContains(t, s.Log(), "status=500", "that the other side went away is no fault of the service")
	assert.NotContains(t, s.Log(), "level=ERROR")
	_, got := s.Do(http.MethodGet, "/v2/a/blobs/"+d.String(), nil)
	assert.True(t, bytes.Equal(raw, got))
}

func TestAFullDiskIsSaidPlainlyAndRecoveredFromWithoutARestart(t *testing.T) {
	data := t.TempDir()
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=24m,nr_inodes=4000", "tmpfs", data).CombinedOutput(); err != nil {
		t.Skipf("no small file system to fill here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", "-l", data).Run() })
	s := kit.Start(t, data)
	image := kit.NewImage(t, kit.Bytes(42, 1<<20))
	kit.Must(t, "push", image.Layout(t), s.Address+"/a/before:1")

	big := kit.Bytes(43, 30<<20)
	d := oci.DigestOf(oci.SHA256, big)
	answer, body, err := s.Try(http.MethodPost, "/v2/a/full/blobs/uploads/?digest="+d.String(), bytes.NewReader(big))
	if err == nil {
		assert.Equal(t, http.StatusInsufficientStorage, answer.StatusCode, "%s", body)
		assert.Contains(t, string(body), "make room")
	}
	code, _ := kit.Status(s, http.MethodHead, "/v2/a/full/blobs/"+d.String())
	assert.Equal(t, http.StatusNotFound, code)

	// A file that is none of the registry's takes all the room there is left.
	ballast := filepath.Join(data, "ballast")
	_ = os.WriteFile(ballast, make([]byte, 24<<20), 0o644)
	small := kit.NewImage(t, kit.Bytes(44, 100_000)).Layout(t)
	r := kit.Run(t, "push", small, s.Address+"/a/small:1")
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Err, "disk is full")
	to := filepath.Join(t.TempDir(), "out")
	kit.Must(t, "pull", s.Address+"/a/before:1", to)
	kit.SameFiles(t, image, to)

	// Changes of the records say the same, and none is answered with a fault of the service.
	for i := 0; ; i++ {
		answer, body := s.Do(http.MethodPost, "/api/v1/namespaces", strings.NewReader(fmt.Sprintf(`{"name":"n%d","description":%q}`, i, strings.Repeat("x", 200))))
		if answer.StatusCode != http.StatusCreated && answer.StatusCode != http.StatusOK {
			assert.Equal(t, http.StatusInsufficientStorage, answer.StatusCode, "%s", body)
			assert.Contains(t, string(body), "make room")
			break
		}
		require.Less(t, i, 20_000, "the disk is full")
	}

	require.NoError(t, os.Remove(ballast))
	kit.Must(t, "push", small, s.Address+"/a/small:1")
	assert.True(t, strings.Contains(kit.Must(t, "list", s.Address), "a/small"))
}
