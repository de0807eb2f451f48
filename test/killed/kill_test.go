package killed

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"warthesis/internal/kit"
	"warthesis/internal/oci"
)

// killRounds is how often the service is killed; make kill-rounds asks for more.
func killRounds(t *testing.T) int {
	given := os.Getenv("KILL_ROUNDS")
	if given == "" {
		return 25
	}
	n, err := strconv.Atoi(given)
	require.NoError(t, err)
	return n
}

// client is somebody who uses a repository of its own and remembers what was
// acknowledged. While an answer is outstanding both outcomes are possible, and
// the next look settles which it was.
type client struct {
	s          *kit.Service
	repository string
	random     *rand.Rand
	number     int

	blobs map[oci.Digest][]byte
	// manifests and tags are what must be there; a digest "" stands for: not there.
	manifests map[oci.Digest][]byte
	tags      map[string]oci.Digest
	// doubtTag is a tag whose last move or removal was not answered, and what it
	// would then point to; doubtManifest one whose removal was not answered.
	doubtTag      string
	doubtTarget   oci.Digest
	doubtManifest oci.Digest

	// upload is an open session: where, all of its bytes, and how many are safe.
	upload string
	whole  []byte
	safe   int
}

func newClient(s *kit.Service, number int, seed uint64) *client {
	return &client{
		s: s, repository: fmt.Sprintf("team%d/app", number), random: rand.New(rand.NewPCG(seed, uint64(number))),
		blobs: map[oci.Digest][]byte{}, manifests: map[oci.Digest][]byte{}, tags: map[string]oci.Digest{},
	}
}

// call sends a request; ok is false where no answer came.
func (c *client) call(method, path string, body []byte, headers ...string) (answer *http.Response, ok bool) {
	answer, _, err := c.s.Try(method, "/v2/"+c.repository+path, bytes.NewReader(body), headers...)
	return answer, err == nil
}

// work does one thing or another until the service is gone. It returns what was
// answered and should not have been.
func (c *client) work() error {
	for {
		var alive bool
		var err error
		switch c.random.IntN(6) {
		case 0, 1:
			alive, err = c.pushBlob()
		case 2, 3:
			alive, err = c.pushManifest()
		case 4:
			alive, err = c.remove()
		case 5:
			alive, err = c.sendPiece()
		}
		if err != nil || !alive {
			return err
		}
	}
}

func unexpected(what string, answer *http.Response) error {
	return fmt.Errorf("%s was answered with %s", what, answer.Status)
}

func (c *client) pushBlob() (bool, error) {
	raw := kit.Bytes(c.random.Uint64(), 1+c.random.IntN(200_000))
	d := oci.DigestOf(oci.SHA256, raw)
	answer, ok := c.call(http.MethodPost, "/blobs/uploads/?digest="+d.String(), raw)
	if !ok {
		return false, nil
	}
	if answer.StatusCode != http.StatusCreated {
		return true, unexpected("a blob", answer)
	}
	c.blobs[d] = raw
	// What one repository holds another takes over.
	to := fmt.Sprintf("/v2/mounted/%s/blobs/uploads/?mount=%s&from=%s", c.repository, d, c.repository)
	answer, _, err := c.s.Try(http.MethodPost, to, nil)
	if err == nil && answer.StatusCode != http.StatusCreated {
		return true, unexpected("a mount", answer)
	}
	return err == nil, nil
}

func (c *client) pushManifest() (bool, error) {
	c.number++
	var layers []oci.Descriptor
	for d, raw := range c.blobs {
		if layers = append(layers, oci.Descriptor{MediaType: oci.MediaTypeLayer, Digest: d, Size: int64(len(raw))}); len(layers) == 2 {
			break
		}
	}
	if len(layers) == 0 {
		return true, nil
	}
	m := kit.Artifact(layers[0].Digest, nil, "application/x.round", c.number)
	m.Config.Size, m.Layers = layers[0].Size, layers[1:]
	raw, err := json.Marshal(m)
	if err != nil {
		return true, err
	}
	digest, tag := oci.DigestOf(oci.SHA256, raw), fmt.Sprintf("t%d", c.random.IntN(5))
	answer, ok := c.call(http.MethodPut, "/manifests/"+tag, raw, "Content-Type", oci.MediaTypeImage)
	if !ok {
		c.doubtTag, c.doubtTarget = tag, digest
		return false, nil
	}
	if answer.StatusCode != http.StatusCreated {
		return true, unexpected("a manifest", answer)
	}
	c.manifests[digest], c.tags[tag] = raw, digest
	return true, nil
}

func (c *client) remove() (bool, error) {
	for tag, digest := range c.tags {
		if c.random.IntN(2) == 0 {
			answer, ok := c.call(http.MethodDelete, "/manifests/"+tag, nil)
			if !ok {
				c.doubtTag, c.doubtTarget = tag, ""
				return false, nil
			}
			if answer.StatusCode != http.StatusAccepted {
				return true, unexpected("the removal of a tag", answer)
			}
			delete(c.tags, tag)
			return true, nil
		}
		answer, ok := c.call(http.MethodDelete, "/manifests/"+digest.String(), nil)
		if !ok {
			c.doubtManifest = digest
			return false, nil
		}
		if answer.StatusCode != http.StatusAccepted {
			return true, unexpected("the removal of a manifest", answer)
		}
		c.forget(digest)
		return true, nil
	}
	return true, nil
}

// forget drops a manifest and the tags that pointed to it.
func (c *client) forget(digest oci.Digest) {
	delete(c.manifests, digest)
	for tag, target := range c.tags {
		if target == digest {
			delete(c.tags, tag)
		}
	}
}

const pieces = 5

func (c *client) sendPiece() (bool, error) {
	if c.upload == "" {
		answer, ok := c.call(http.MethodPost, "/blobs/uploads/", nil)
		if !ok {
			return false, nil
		}
		c.upload, c.whole, c.safe = answer.Header.Get("Location"), kit.Bytes(c.random.Uint64(), pieces*50_000), 0
		return true, nil
	}
	next := c.safe + len(c.whole)/pieces
	answer, _, err := c.s.Try(http.MethodPatch, c.upload, bytes.NewReader(c.whole[c.safe:next]), "Content-Range", fmt.Sprintf("%d-%d", c.safe, next-1))
	if err != nil {
		return false, nil
	}
	if answer.StatusCode != http.StatusAccepted {
		return true, unexpected("a piece", answer)
	}
	if c.safe = next; c.safe < len(c.whole) {
		return true, nil
	}
	d := oci.DigestOf(oci.SHA256, c.whole)
	answer, _, err = c.s.Try(http.MethodPut, c.upload+"?digest="+d.String(), nil)
	if err != nil {
		c.upload = ""
		return false, nil
	}
	if answer.StatusCode != http.StatusCreated {
		return true, unexpected("the end of an upload", answer)
	}
	c.blobs[d], c.upload = c.whole, ""
	return true, nil
}

// check looks at everything after a restart.
func (c *client) check(t *testing.T) {
	get := func(path string) (int, []byte) {
		answer, raw := c.s.Do(http.MethodGet, "/v2/"+c.repository+path, nil)
		return answer.StatusCode, raw
	}
	if d := c.doubtManifest; d != "" {
		if code, _ := get("/manifests/" + d.String()); code == http.StatusNotFound {
			c.forget(d)
		}
	}
	if tag := c.doubtTag; tag != "" {
		code, raw := get("/manifests/" + tag)
		found := oci.Digest("")
		if code == http.StatusOK {
			found = oci.DigestOf(oci.SHA256, raw)
			c.manifests[found] = raw
		}
		require.Contains(t, []oci.Digest{c.tags[tag], c.doubtTarget}, found, "the tag %s points to what it did before or after", tag)
		delete(c.tags, tag)
		if found != "" {
			c.tags[tag] = found
		}
	}
	c.doubtManifest, c.doubtTag, c.doubtTarget = "", "", ""
	for i := range 5 {
		tag := fmt.Sprintf("t%d", i)
		code, raw := get("/manifests/" + tag)
		if want, there := c.tags[tag]; there {
			require.Equal(t, http.StatusOK, code, "the tag %s of %s", tag, c.repository)
			require.Equal(t, want, oci.DigestOf(oci.SHA256, raw))
		} else {
			require.Equal(t, http.StatusNotFound, code, "the tag %s of %s was removed", tag, c.repository)
		}
	}
	for d, want := range c.manifests {
		code, raw := get("/manifests/" + d.String())
		require.Equal(t, http.StatusOK, code, "manifest %s of %s", d, c.repository)
		require.True(t, bytes.Equal(want, raw))
	}
	for d, want := range c.blobs {
		code, raw := get("/blobs/" + d.String())
		require.Equal(t, http.StatusOK, code, "blob %s of %s", d, c.repository)
		require.True(t, bytes.Equal(want, raw), "blob %s of %s", d, c.repository)
	}
	if c.upload == "" {
		return
	}
	answer, _ := c.s.Do(http.MethodGet, c.upload, nil)
	require.Equal(t, http.StatusNoContent, answer.StatusCode, "the upload goes on")
	var last int
	_, err := fmt.Sscanf(answer.Header.Get("Range"), "0-%d", &last)
	require.NoError(t, err)
	if last > 0 {
		last++
	}
	require.GreaterOrEqual(t, last, c.safe, "no acknowledged byte of the upload is lost")
	c.safe = last
	if c.safe == len(c.whole) {
		c.upload = ""
	}
}

func TestNothingAcknowledgedIsLostHoweverOftenTheServiceIsKilled(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 99))
	clients := make([]*client, 4)
	for i := range clients {
		clients[i] = newClient(s, i, seed)
	}
	for range killRounds(t) {
		errs := make([]error, len(clients))
		var working sync.WaitGroup
		for i, c := range clients {
			working.Go(func() { errs[i] = c.work() })
		}
		time.Sleep(time.Duration(20+random.IntN(250)) * time.Millisecond)
		s.Kill()
		working.Wait()
		for _, err := range errs {
			require.NoError(t, err)
		}
		s.Restart()
		for _, c := range clients {
			c.check(t)
		}
		// What was looked at often enough need not be looked at for ever.
		for _, c := range clients {
			if len(c.blobs) > 60 {
				c.blobs, c.manifests, c.tags = map[oci.Digest][]byte{}, map[oci.Digest][]byte{}, map[string]oci.Digest{}
				c.repository += "x"
				c.upload = ""
			}
		}
	}
	require.NotContains(t, s.Log(), "DATA RACE")
}
