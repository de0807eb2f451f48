package sweeps

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"testing"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/api"
	"warthesis/internal/kit"
	"warthesis/internal/oci"
)

// An erased secret is gone from all places at once, and does not come back by any door.
func TestAnErasedSecretDoesNotComeBack(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	s := kit.Start(t, data, "--sweep-at", "never")
	secret := append([]byte("the key of the signal boxes: "), kit.Bytes(7, 4000)...)
	harmless := kit.Bytes(8, 3000)
	image := push(t, s, "signals/box", "1.0.0", harmless, secret)
	push(t, s, "signals/box", "0.9.0", harmless)
	same := push(t, s, "timetable/planner", "1.0.0", secret)
	d, twin := oci.DigestOf(oci.SHA256, secret), oci.DigestOf(oci.SHA512, secret)
	index := v1.Index{MediaType: oci.MediaTypeIndex, Manifests: []oci.Descriptor{image.Manifest}}
	index.SchemaVersion = 2
	whole := kit.PutManifest(t, s, "signals/box", "all", oci.MediaTypeIndex, index)
	// It also lies in what can come back: a removed tag, a removed image, a removed place,
	// an upload that waits for its last request.
	push(t, s, "signals/old", "1.0.0", secret)
	kit.AsAdmin(t, s, http.MethodDelete, "/api/v1/repository?repository=signals/old", "")
	removed := push(t, s, "signals/box", "0.1.0", kit.Bytes(9, 100), secret)
	answer, body := s.Do(http.MethodDelete, "/v2/signals/box/manifests/"+removed.Manifest.Digest.String(), nil)
	require.Equal(t, http.StatusAccepted, answer.StatusCode, "%s", body)
	removals := asked[api.RemovalList](t, s, http.MethodGet, "removals", "").Removals
	upload := kit.StartUpload(t, s, "signals/box")
	answer, body = s.Do(http.MethodPatch, upload, bytes.NewReader(secret), "Content-Type", "application/octet-stream")
	require.Equal(t, http.StatusAccepted, answer.StatusCode, "%s", body)
	upload = answer.Header.Get("Location")

	refused := kit.Run(t, "erase", s.Address, d.String(), "--reason", "a key was pushed")
	assert.Equal(t, 2, refused.Code, "without --yes and a terminal nothing goes")
	for _, named := range []string{"signals/box, signals/old, timetable/planner", image.Manifest.Digest.String(), whole.Digest.String(), same.Manifest.Digest.String(), removed.Manifest.Digest.String(), "backups"} {
		assert.Contains(t, refused.Out+refused.Err, named)
	}
	kit.Must(t, "tag", "seal", s.Address+"/signals/box:1.0.0", "--reason", "in service")
	refused = kit.Run(t, "erase", s.Address, d.String(), "--reason", "a key was pushed", "--yes")
	assert.Equal(t, 3, refused.Code)
	assert.Contains(t, refused.Err, "signals/box:1.0.0")
	// What comes in between was not confirmed.
	plan := asked[api.ErasePlan](t, s, http.MethodGet, "erase-plan?digest="+d.String(), "")
	push(t, s, "timetable/other", "2.0.0", secret)
	erase := func(plan api.ErasePlan) (int, string) {
		body, err := json.Marshal(api.Erase{Digest: d, Reason: "a key was pushed", Mark: plan.Mark, OverSeals: true})
		require.NoError(t, err)
		answer, raw := s.Do(http.MethodPost, "/api/v1/erase", bytes.NewReader(body), "Content-Type", "application/json")
		return answer.StatusCode, string(raw)
	}
	code, said := erase(plan)
	assert.Equal(t, http.StatusPreconditionFailed, code, said)
	kit.Must(t, "erase", s.Address, d.String(), "--reason", "a key was pushed", "--yes", "--over-seals")

	gone := func() {
		t.Helper()
		left := files(t, data)
		assert.Empty(t, left[d])
		assert.Empty(t, left[twin])
		for _, at := range []string{"signals/box/blobs/" + d.String(), "timetable/planner/blobs/" + d.String(), "signals/box/manifests/1.0.0", "signals/box/manifests/all",
			"signals/box/manifests/" + image.Manifest.Digest.String(), "timetable/planner/manifests/" + same.Manifest.Digest.String()} {
			code, _ := kit.Status(s, http.MethodGet, "/v2/"+at)
			assert.Equal(t, http.StatusNotFound, code, at)
		}
	}
	gone()
	code, _ = kit.Status(s, http.MethodGet, "/v2/signals/box/manifests/0.9.0")
	assert.Equal(t, http.StatusOK, code, "what does not have it in it stays")

	denied := func(answer *http.Response, body []byte) {
		t.Helper()
		assert.Equal(t, http.StatusForbidden, answer.StatusCode, "%s", body)
		assert.Contains(t, string(body), "a key was pushed")
		gone()
	}
	post := func(path string, raw []byte, headers ...string) (*http.Response, []byte) {
		return s.Do(http.MethodPost, path, bytes.NewReader(raw), headers...)
	}
	denied(post("/v2/signals/new/blobs/uploads/?digest="+d.String(), secret))
	denied(post("/v2/signals/new/blobs/uploads/?digest="+twin.String(), secret))
	denied(s.Do(http.MethodPut, upload+"?digest="+d.String(), nil))
	chunked := func(with oci.Digest, by string) {
		at := kit.StartUpload(t, s, "timetable/new")
		if by != "" {
			answer, _ := s.Do(http.MethodPost, "/v2/timetable/new/blobs/uploads/?digest-algorithm="+by, nil)
			at = answer.Header.Get("Location")
		}
		for half := range 2 {
			from, to := half*len(secret)/2, (half+1)*len(secret)/2
			answer, body := s.Do(http.MethodPatch, at, bytes.NewReader(secret[from:to]), "Content-Type", "application/octet-stream", "Content-Range", fmt.Sprintf("%d-%d", from, to-1))
			require.Equal(t, http.StatusAccepted, answer.StatusCode, "%s", body)
			at = answer.Header.Get("Location")
		}
		sign := "?"
		if strings.Contains(at, "?") {
			sign = "&"
		}
		denied(s.Do(http.MethodPut, at+sign+"digest="+with.String(), nil))
	}
	chunked(d, "")
	chunked(twin, "sha512")
	answer, _ = post("/v2/signals/new/blobs/uploads/?mount="+d.String()+"&from=timetable/planner", nil)
	assert.Equal(t, http.StatusForbidden, answer.StatusCode, "what is banned is refused at once")
	gone()
	for _, r := range removals {
		answer, body := post(fmt.Sprintf("/api/v1/removals/%d/undo", r.ID), []byte("{}"), "Content-Type", "application/json")
		if r.Kind == "repository" {
			assert.Equal(t, http.StatusOK, answer.StatusCode, "%s", body)
		}
		gone()
	}
	code, _ = kit.Status(s, http.MethodGet, "/v2/signals/old/manifests/1.0.0")
	assert.Equal(t, http.StatusNotFound, code, "the place came back without it")
	for _, target := range []string{"1.0.0", image.Manifest.Digest.String(), image.Manifest.Digest.String() + "?tag=again"} {
		denied(s.Do(http.MethodPut, "/v2/signals/box/manifests/"+target, bytes.NewReader(image.Raw), "Content-Type", oci.MediaTypeImage))
	}
	inIndex := index
	inIndex.Manifests = []oci.Descriptor{{MediaType: oci.MediaTypeLayer, Digest: d, Size: int64(len(secret))}}
	raw, err := json.Marshal(inIndex)
	require.NoError(t, err)
	denied(s.Do(http.MethodPut, "/v2/signals/box/manifests/inside", bytes.NewReader(raw), "Content-Type", oci.MediaTypeIndex))
	inIndex.Manifests[0].Digest = twin
	raw, err = json.Marshal(inIndex)
	require.NoError(t, err)
	denied(s.Do(http.MethodPut, "/v2/signals/box/manifests/inside", bytes.NewReader(raw), "Content-Type", oci.MediaTypeIndex))
	s.Kill()
	s.Restart()
	gone()
	denied(post("/v2/signals/new/blobs/uploads/?digest="+d.String(), secret))
	audit := string(kit.AsAdmin(t, s, http.MethodGet, "/api/v1/audit?kind=erased", ""))
	assert.Equal(t, 4, strings.Count(audit, "a key was pushed"), "a line for each place")

	// The ban is lifted, which is logged, and then it can be pushed.
	assert.Contains(t, kit.Must(t, "ban", "list", s.Address), "a key was pushed")
	kit.Must(t, "ban", "lift", s.Address, "1", "--reason", "the key was changed")
	kit.PutBlob(t, s, "signals/new", secret)
	assert.Contains(t, kit.Must(t, "audit", s.Address), "the key was changed")
}

// An owner erases in its own namespace, learns nothing of others by it, and keeps nothing
// out of theirs. What was never here is kept out under the digest that it would have.
func TestOwnersEraseInTheirNamespacesAlone(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	s := kit.Start(t, data, "--sweep-at", "never")
	kit.MakeAccount(t, s, "marit")
	secret, never := kit.Bytes(7, 4000), kit.Bytes(70, 4000)
	d := oci.DigestOf(oci.SHA256, secret)
	push(t, s, "timetable/planner", "1.0.0", secret)
	push(t, s, "signals/box", "1.0.0", secret)
	kit.AsAdmin(t, s, http.MethodPut, "/api/v1/roles", `{"account":"marit","place":"timetable","role":"owner"}`)
	as := func(method, path, body string) (int, string) {
		answer, raw := s.Do(method, "/api/v1/"+path, strings.NewReader(body), append(kit.Basic("marit", kit.MemberPassword), "Content-Type", "application/json")...)
		return answer.StatusCode, string(raw)
	}
	for _, refused := range [][3]string{
		{http.MethodGet, "erase-plan?digest=" + d.String(), ""}, {http.MethodGet, "erase-plan?namespace=signals&digest=" + d.String(), ""},
		{http.MethodPost, "erase", fmt.Sprintf(`{"digest":"%s","namespace":"signals","reason":"x","mark":"x"}`, d)},
		{http.MethodPost, "erase", fmt.Sprintf(`{"digest":"%s","namespace":"timetable","reason":"x","mark":"x","over_seals":true}`, d)},
	} {
		code, said := as(refused[0], refused[1], refused[2])
		assert.Equal(t, http.StatusForbidden, code, said)
	}
	plan := func(of oci.Digest) (p api.ErasePlan) {
		code, said := as(http.MethodGet, "erase-plan?namespace=timetable&digest="+of.String(), "")
		require.Equal(t, http.StatusOK, code, said)
		require.NoError(t, json.Unmarshal([]byte(said), &p))
		return p
	}
	// What others alone have looks as what is not here.
	others := push(t, s, "signals/box", "2.0.0", kit.Bytes(77, 4000))
	var theirs oci.Digest
	for digest := range others.Blobs {
		theirs = digest
	}
	foreign, none := plan(theirs), plan(oci.DigestOf(oci.SHA256, never))
	foreign.Digest, none.Digest = "", ""
	assert.Equal(t, none, foreign)

	mine := plan(d)
	assert.Equal(t, []oci.Name{"timetable/planner"}, mine.Repositories)
	code, said := as(http.MethodPost, "erase", fmt.Sprintf(`{"digest":"%s","namespace":"timetable","reason":"ours","mark":"%s"}`, d, mine.Mark))
	require.Equal(t, http.StatusOK, code, said)
	assert.Len(t, files(t, data)[d], 1, "others have it still")
	answer, body := s.Do(http.MethodPost, "/v2/timetable/x/blobs/uploads/?digest="+d.String(), bytes.NewReader(secret))
	assert.Equal(t, http.StatusForbidden, answer.StatusCode, "%s", body)
	answer, _ = s.Do(http.MethodPost, "/v2/timetable/x/blobs/uploads/?mount="+d.String()+"&from=signals/box", nil)
	assert.Equal(t, http.StatusForbidden, answer.StatusCode, "not by mounting from where it may be")
	kit.PutBlob(t, s, "signals/x", secret)
	moved, said2 := s.Do(http.MethodPatch, "/api/v1/repository?repository=signals/x", strings.NewReader(`{"rename":"timetable/y"}`), "Content-Type", "application/json")
	assert.Equal(t, http.StatusForbidden, moved.StatusCode, "not by renaming what has it: %s", said2)

	// Never here: by either digest of the same bytes it is refused.
	n := oci.DigestOf(oci.SHA256, never)
	code, said = as(http.MethodPost, "erase", fmt.Sprintf(`{"digest":"%s","namespace":"timetable","reason":"a leaked file","mark":"%s"}`, n, plan(n).Mark))
	require.Equal(t, http.StatusOK, code, said)
	for _, digest := range []oci.Digest{n, oci.DigestOf(oci.SHA512, never)} {
		answer, body := s.Do(http.MethodPost, "/v2/timetable/x/blobs/uploads/?digest="+digest.String(), bytes.NewReader(never))
		assert.Equal(t, http.StatusForbidden, answer.StatusCode, "%s", body)
	}
	assert.Empty(t, files(t, data)[oci.DigestOf(oci.SHA512, never)])
	kit.PutBlob(t, s, "signals/x", never)
	code, said = as(http.MethodGet, "bans?namespace=timetable", "")
	assert.Equal(t, http.StatusOK, code)
	assert.Equal(t, 2, strings.Count(said, `"reason"`))
	code, said = as(http.MethodPost, "bans/2/lift", `{"reason":"found"}`)
	assert.Equal(t, http.StatusNoContent, code, said)
}

// A layer that was erased stays out however it is compressed, and is no more mounted than
// pushed.
func TestAnErasedLayerStaysOutHoweverItIsCompressed(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir(), "--sweep-at", "never")
	secret := append([]byte("the key of the signal boxes: "), kit.Bytes(17, 4000)...)
	quick, best := packed(t, secret, gzip.BestSpeed), packed(t, secret, gzip.BestCompression)
	require.NotEqual(t, quick, best)
	push(t, s, "signals/box", "1.0.0", quick)
	push(t, s, "timetable/planner", "1.0.0", best)
	d := oci.DigestOf(oci.SHA256, quick)
	plan := asked[api.ErasePlan](t, s, http.MethodGet, "erase-plan?namespace=signals&digest="+d.String(), "")
	assert.Equal(t, oci.DigestOf(oci.SHA256, secret), plan.Unpacked)
	said := kit.Must(t, "erase", s.Address+"/signals", d.String(), "--reason", "a key was pushed", "--yes")
	assert.Contains(t, said, "however it is compressed")

	for says, layer := range map[string][]byte{"compressed otherwise": best, "as it was": quick, "not compressed": secret} {
		digest := oci.DigestOf(oci.SHA256, layer)
		answer, body := s.Do(http.MethodPost, "/v2/signals/box/blobs/uploads/?digest="+digest.String(), bytes.NewReader(layer))
		assert.Equal(t, http.StatusForbidden, answer.StatusCode, "%s: %s", says, body)
		assert.Contains(t, string(body), "a key was pushed", says)
	}
	// Content that another namespace has is not mounted into this one.
	for _, layer := range [][]byte{best, quick} {
		answer, body := s.Do(http.MethodPost, "/v2/signals/box/blobs/uploads/?from=timetable/planner&mount="+oci.DigestOf(oci.SHA256, layer).String(), nil)
		assert.Equal(t, http.StatusForbidden, answer.StatusCode, "%s", body)
		assert.Contains(t, string(body), "a key was pushed")
	}
	// An image says by its config what its layers unpack to.
	config := fmt.Appendf(nil, `{"os":"linux","architecture":"amd64","rootfs":{"type":"layers","diff_ids":[%q]}}`, oci.DigestOf(oci.SHA256, secret))
	harmless := kit.Bytes(18, 500)
	kit.PutBlob(t, s, "signals/box", config)
	kit.PutBlob(t, s, "signals/box", harmless)
	manifest := fmt.Sprintf(`{"schemaVersion":2,"mediaType":%q,"config":{"mediaType":%q,"digest":%q,"size":%d},"layers":[{"mediaType":%q,"digest":%q,"size":%d}]}`,
		oci.MediaTypeImage, oci.MediaTypeConfig, oci.DigestOf(oci.SHA256, config), len(config), oci.MediaTypeLayer, oci.DigestOf(oci.SHA256, harmless), len(harmless))
	answer, body := s.Do(http.MethodPut, "/v2/signals/box/manifests/x", strings.NewReader(manifest), "Content-Type", oci.MediaTypeImage)
	assert.Equal(t, http.StatusForbidden, answer.StatusCode, "%s", body)
	// Elsewhere it is nobody's business, and other layers are pushed as ever.
	push(t, s, "timetable/planner", "2.0.0", packed(t, secret, gzip.DefaultCompression))
	push(t, s, "signals/box", "2.0.0", packed(t, kit.Bytes(19, 9000), gzip.BestSpeed))
}

func packed(t *testing.T, raw []byte, level int) []byte {
	var out bytes.Buffer
	w, err := gzip.NewWriterLevel(&out, level)
	require.NoError(t, err)
	_, err = w.Write(raw)
	require.NoError(t, errors.Join(err, w.Close()))
	return out.Bytes()
}
