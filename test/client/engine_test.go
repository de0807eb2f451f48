package client

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/kit"
	"warthesis/internal/oci"
)

// A container engine of the older kind asks for the version, looks for each layer,
// streams what is missing in one PATCH of unknown length, ends it with an empty
// PUT, and pushes a manifest of the second schema under the tag. The second tag of
// an image sends the manifest alone.
func TestAContainerEngineOfTheOlderKindPushesAndPulls(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	answer, body := s.Do(http.MethodGet, "/v2/", nil)
	require.Equal(t, http.StatusOK, answer.StatusCode)
	assert.Equal(t, "registry/2.0", answer.Header.Get("Docker-Distribution-Api-Version"))
	assert.JSONEq(t, "{}", string(body))

	config, layer := []byte(`{"os":"linux","architecture":"arm64","config":{}}`), kit.Bytes(50, 200_000)
	digests := map[string]oci.Digest{}
	for name, raw := range map[string][]byte{"config": config, "layer": layer} {
		d := oci.DigestOf(oci.SHA256, raw)
		digests[name] = d
		code, _ := kit.Status(s, http.MethodHead, "/v2/team/app/blobs/"+d.String())
		require.Equal(t, http.StatusNotFound, code)
		at := kit.StartUpload(t, s, "team/app")
		// A reader of no known length travels in chunks, as engines stream.
		answer, body := s.Do(http.MethodPatch, at, struct{ *bytes.Buffer }{bytes.NewBuffer(raw)})
		require.Equal(t, http.StatusAccepted, answer.StatusCode, "%s", body)
		answer, body = s.Do(http.MethodPut, answer.Header.Get("Location")+"?digest="+d.String(), nil)
		require.Equal(t, http.StatusCreated, answer.StatusCode, "%s", body)
		assert.Equal(t, d.String(), answer.Header.Get("Docker-Content-Digest"))
	}
	manifest := fmt.Sprintf(`{"schemaVersion":2,"mediaType":%q,"config":{"mediaType":%q,"size":%d,"digest":%q},"layers":[{"mediaType":"application/vnd.docker.image.rootfs.diff.tar.gzip","size":%d,"digest":%q}]}`,
		oci.MediaTypeSecondImage, oci.MediaTypeSecondConfig, len(config), digests["config"], len(layer), digests["layer"])
	for _, tag := range []string{"1.0", "latest"} {
		answer, body := s.Do(http.MethodPut, "/v2/team/app/manifests/"+tag, bytes.NewReader([]byte(manifest)), "Content-Type", oci.MediaTypeSecondImage)
		require.Equal(t, http.StatusCreated, answer.StatusCode, "%s", body)
	}
	answer, body = s.Do(http.MethodGet, "/v2/team/app/manifests/latest", nil, "Accept", oci.MediaTypeImage)
	assert.Equal(t, oci.MediaTypeSecondImage, answer.Header.Get("Content-Type"), "what was pushed is what is served, whatever is accepted")
	assert.Equal(t, manifest, string(body))
	again, _ := s.Do(http.MethodGet, "/v2/team/app/manifests/latest", nil, "If-None-Match", answer.Header.Get("ETag"))
	assert.Equal(t, http.StatusNotModified, again.StatusCode)
	part, body := s.Do(http.MethodGet, "/v2/team/app/blobs/"+digests["layer"].String(), nil, "Range", "bytes=100-199")
	assert.Equal(t, http.StatusPartialContent, part.StatusCode)
	assert.Equal(t, layer[100:200], body)
	assert.Contains(t, kit.Must(t, "list", s.Address+"/team/app"), "linux/arm64")
}

func TestSettingsComeFromFileEnvironmentAndFlagsAndUnknownOnesAreNamed(t *testing.T) {
	folder := t.TempDir()
	for name, c := range map[string]struct {
		text string
		says []string
	}{
		"unknown key":   {"data: x\nlisten: 127.0.0.1:0\nlissten: y\n", []string{"lissten", "line 3"}},
		"wrong kind":    {"data: x\nstop_within: soon\n", []string{"soon", "line 2"}},
		"open listener": {"listen: 0.0.0.0:7070\n", []string{"--listen-unencrypted"}},
	} {
		file := folder + "/settings.yaml"
		require.NoError(t, os.WriteFile(file, []byte(c.text), 0o600))
		r := kit.Run(t, "serve", "--config", file)
		assert.Equal(t, 2, r.Code, name)
		for _, says := range c.says {
			assert.Contains(t, r.Err, says, name)
		}
	}
	t.Run("unknown variable", func(t *testing.T) {
		t.Setenv("WARTHESIS_LISSTEN", "x")
		r := kit.Run(t, "serve", "--data", folder)
		assert.Equal(t, 2, r.Code)
		assert.Contains(t, r.Err, "WARTHESIS_LISSTEN: there is no setting lissten")
	})
	file := folder + "/settings.yaml"
	require.NoError(t, os.WriteFile(file, []byte("data: /nowhere/at/all\nmanifest_bytes: 2048\n"), 0o600))
	t.Setenv("WARTHESIS_BLOB_BYTES", "1048576")
	// The flag for the data folder, which the kit gives, wins over the file.
	s := kit.Start(t, t.TempDir(), "--config", file)
	big := make([]byte, 1<<20+1)
	code, _ := kit.Status(s, http.MethodGet, "/v2/")
	require.Equal(t, http.StatusOK, code)
	answer, _ := s.Do(http.MethodPost, "/v2/a/blobs/uploads/?digest="+oci.DigestOf(oci.SHA256, big).String(), bytes.NewReader(big))
	assert.Equal(t, http.StatusRequestEntityTooLarge, answer.StatusCode)
	answer, _ = s.Do(http.MethodPut, "/v2/a/manifests/x", bytes.NewReader(make([]byte, 3000)), "Content-Type", oci.MediaTypeImage)
	assert.Equal(t, http.StatusRequestEntityTooLarge, answer.StatusCode)
}

// An engine's login asks for the version, follows the challenge with the account and
// its password, and tries the token; a push asks for a token with its scopes; one
// that may not is told why in the answer's own words. Newer engines post a form.
func TestAContainerEngineLogsInAndIsRefusedInWords(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	kit.MakeAccount(t, s, "jun")
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/teams", `{"name":"signals","writers":["jun"]}`)
	answer, _ := s.Do(http.MethodGet, "/v2/", nil, "Authorization", "")
	require.Equal(t, http.StatusUnauthorized, answer.StatusCode)
	challenge := regexp.MustCompile(`^Bearer realm="([^"]+)",service="([^"]+)"$`).FindStringSubmatch(answer.Header.Get("WWW-Authenticate"))
	require.NotNil(t, challenge)
	require.Equal(t, s.URL("/api/token"), challenge[1])

	basic := "Basic " + base64.StdEncoding.EncodeToString([]byte("jun:"+kit.MemberPassword))
	ask := func(scopes ...string) string {
		query := url.Values{"account": {"jun"}, "client_id": {"engine"}, "offline_token": {"true"}, "service": {challenge[2]}, "scope": scopes}
		answer, raw := s.Do(http.MethodGet, "/api/token?"+query.Encode(), nil, "Authorization", basic)
		require.Equal(t, http.StatusOK, answer.StatusCode, "%s", raw)
		var given struct {
			Token     string
			ExpiresIn int `json:"expires_in"`
		}
		require.NoError(t, json.Unmarshal(raw, &given))
		assert.Positive(t, given.ExpiresIn)
		return "Bearer " + given.Token
	}
	answer, _ = s.Do(http.MethodGet, "/v2/", nil, "Authorization", ask())
	assert.Equal(t, http.StatusOK, answer.StatusCode)
	answer, _ = s.Do(http.MethodPost, "/v2/signals/relay/blobs/uploads/", nil, "Authorization", ask())
	assert.Equal(t, http.StatusUnauthorized, answer.StatusCode)
	assert.Contains(t, answer.Header.Get("WWW-Authenticate"), `scope="repository:signals/relay:pull,push",error="insufficient_scope"`)
	answer, _ = s.Do(http.MethodPost, "/v2/signals/relay/blobs/uploads/", nil, "Authorization", ask("repository:signals/relay:pull,push"))
	assert.Equal(t, http.StatusAccepted, answer.StatusCode)
	answer, raw := s.Do(http.MethodPost, "/v2/berths/seatmap/blobs/uploads/", nil, "Authorization", ask("repository:berths/seatmap:pull,push"))
	assert.Equal(t, http.StatusForbidden, answer.StatusCode)
	assert.Contains(t, string(raw), `"code":"DENIED","message":"jun may not push to berths/seatmap: it takes the role writer there;`)
	answer, _ = s.Do(http.MethodGet, "/api/token?service=x", nil, "Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte("jun:wrong")))
	assert.Equal(t, http.StatusUnauthorized, answer.StatusCode)

	for status, form := range map[int]url.Values{
		http.StatusOK:           {"grant_type": {"password"}, "username": {"jun"}, "password": {kit.MemberPassword}, "scope": {"repository:signals/relay:pull repository:base/os:pull"}},
		http.StatusUnauthorized: {"grant_type": {"refresh_token"}, "refresh_token": {"warthesis_nothing"}},
		http.StatusBadRequest:   {"grant_type": {"something else"}},
	} {
		answer, raw := s.Do(http.MethodPost, "/api/token", strings.NewReader(form.Encode()), "Content-Type", "application/x-www-form-urlencoded", "Authorization", "")
		assert.Equal(t, status, answer.StatusCode, "%s", raw)
	}
}
