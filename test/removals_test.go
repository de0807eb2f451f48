package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/api"
	"warthesis/internal/kit"
	"warthesis/internal/oci"
)

// undoWorld is a namespace with an index whose children are named twice or once, what
// refers to it, and tags.
type undoWorld struct {
	t                              *testing.T
	s                              *kit.Service
	index, only, shared, signature oci.Descriptor
	config                         oci.Digest
	layer                          oci.Digest
}

func makeUndoWorld(t *testing.T) *undoWorld {
	s := kit.Start(t, t.TempDir())
	w := &undoWorld{t: t, s: s}
	w.config = kit.PutBlob(t, s, "n/app", []byte("{}"))
	w.layer = kit.PutBlob(t, s, "n/app", bytes.Repeat([]byte("layer"), 1000))
	image := func(n int) oci.Descriptor {
		m := kit.Artifact(w.config, nil, "application/x.child", n)
		m.Layers = []oci.Descriptor{{MediaType: "application/x.layer", Digest: w.layer, Size: 5000}}
		return kit.PutManifest(t, s, "n/app", "", oci.MediaTypeImage, m)
	}
	w.only, w.shared = image(1), image(2)
	index := func(tag string, children ...oci.Descriptor) oci.Descriptor {
		return kit.PutManifest(t, s, "n/app", tag, oci.MediaTypeIndex, map[string]any{"schemaVersion": 2, "mediaType": oci.MediaTypeIndex, "manifests": children})
	}
	w.index = index("1.0.0", w.only, w.shared)
	index("other", w.shared)
	w.signature = kit.PutManifest(t, s, "n/app", "", oci.MediaTypeImage, kit.Artifact(w.config, &w.index, "application/x.signature", 3))
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/tags?repository=n/app", fmt.Sprintf(`{"changes":[{"act":"add","tag":"stable","to":"1.0.0"},{"act":"add","tag":"only","to":%q}]}`, w.shared.Digest))
	kit.PutBlob(t, s, "n/second", []byte("{}"))
	return w
}

// pulls are what reading changes.
var pulls = regexp.MustCompile(`,"(pulled_at":"[^"]*"|pulls":[0-9]+)`)

// state is all that readers see of the namespace; the log is that of before a removal.
func (w *undoWorld) state() map[string]string {
	seen := map[string]string{}
	for _, path := range []string{
		"/api/v1/tags?repository=n/app&sort=change", "/v2/n/app/tags/list", "/v2/n/app/referrers/" + w.index.Digest.String(), "/v2/n/app/blobs/" + w.layer.String(),
		"/v2/n/app/manifests/1.0.0", "/v2/n/app/manifests/stable", "/v2/n/app/manifests/" + w.only.Digest.String(), "/v2/n/app/manifests/" + w.shared.Digest.String(),
		"/v2/n/app/manifests/" + w.signature.Digest.String(), "/api/v1/repositories?namespace=n",
	} {
		answer, raw := w.s.Do(http.MethodGet, path, nil)
		seen[path] = fmt.Sprint(answer.StatusCode, answer.Header.Get("Docker-Content-Digest"), string(raw))
	}
	// Pulls are counted meanwhile.
	for path, said := range seen {
		if strings.HasPrefix(path, "/api/") {
			seen[path] = pulls.ReplaceAllString(said, "")
		}
	}
	return seen
}

func (w *undoWorld) log() []api.TagMove {
	var log api.TagMoveList
	require.NoError(w.t, json.Unmarshal(kit.AsAdmin(w.t, w.s, http.MethodGet, "/api/v1/tag-log?repository=n/app&limit=1000", ""), &log))
	return log.Moves
}

func (w *undoWorld) removals(query string) []api.Removal {
	var list api.RemovalList
	require.NoError(w.t, json.Unmarshal(kit.AsAdmin(w.t, w.s, http.MethodGet, "/api/v1/removals?"+query, ""), &list))
	return list.Removals
}

func (w *undoWorld) undo(id int64, body string) (int, string) {
	answer, raw := w.s.Do(http.MethodPost, fmt.Sprintf("/api/v1/removals/%d/undo", id), strings.NewReader(body), "Content-Type", "application/json")
	return answer.StatusCode, string(raw)
}

// Undoing gives back the same bytes, tags, referrers and tag log, after every kind of
// removal.
func TestEveryRemovalIsUndoneWhole(t *testing.T) {
	t.Parallel()
	w := makeUndoWorld(t)
	before, log := w.state(), w.log()
	tags := "/api/v1/tags?repository=n/app"
	for _, removal := range []struct {
		says, method, path, body string
		kind                     string
		tags, images             int64
	}{
		{"a tag by the protocol", http.MethodDelete, "/v2/n/app/manifests/stable", "", "tag", 1, 0},
		{"two tags at once", http.MethodPost, tags, `{"changes":[{"act":"remove","tag":"stable"},{"act":"remove","tag":"1.0.0"}],"reason":"a test"}`, "tag", 2, 0},
		{"an image by the protocol", http.MethodDelete, "/v2/n/app/manifests/" + w.index.Digest.String(), "", "manifest", 2, 1},
		{"an image with all", http.MethodDelete, "/api/v1/image?whole=true&reason=a+test&repository=n/app&digest=" + w.index.Digest.String(), "", "manifest", 2, 3},
		{"a repository", http.MethodDelete, "/api/v1/repository?repository=n/app&reason=a+test", "", "repository", 0, 0},
		{"a namespace", http.MethodDelete, "/api/v1/namespaces/n", "", "namespace", 0, 0},
	} {
		answer, raw := w.s.Do(removal.method, removal.path, strings.NewReader(removal.body), "Content-Type", "application/json")
		require.Less(t, answer.StatusCode, 300, "%s: %s", removal.says, raw)
		assert.NotEqual(t, before, w.state(), removal.says)
		found := w.removals("")[0]
		assert.Equal(t, []any{removal.kind, removal.tags, removal.images, "admin"}, []any{found.Kind, found.Tags, found.Images, found.By}, removal.says)
		assert.NotNil(t, found.Until, removal.says)
		code, said := w.undo(found.ID, "{}")
		require.Equal(t, http.StatusOK, code, "%s: %s", removal.says, said)
		assert.Equal(t, before, w.state(), removal.says)
		now := w.log()
		assert.Equal(t, log, withoutEnds(log, now[len(now)-len(log):]), "%s: the log of before is there still", removal.says)
		code, said = w.undo(found.ID, "{}")
		assert.Equal(t, http.StatusConflict, code, "%s", said)
		assert.Contains(t, said, "undone already")
	}
	var done api.RemovedBy
	answer, raw := w.s.Do(http.MethodDelete, "/v2/n/second/blobs/"+w.config.String(), nil)
	require.Equal(t, http.StatusAccepted, answer.StatusCode, "%s", raw)
	done.Removal = w.removals("place=n/second")[0].ID
	code, said := w.undo(done.Removal, "{}")
	require.Equal(t, http.StatusOK, code, said)
	code, _ = kit.Status(w.s, http.MethodHead, "/v2/n/second/blobs/"+w.config.String())
	assert.Equal(t, http.StatusOK, code)
	assert.Empty(t, w.removals(""), "what was undone is listed where it is asked for")
	assert.Len(t, w.removals("undone=true"), 7)
}

// withoutEnds takes what lines came to be until from those of before.
func withoutEnds(before, now []api.TagMove) []api.TagMove {
	for i := range now {
		now[i].Until, now[i].There = before[i].Until, before[i].There
	}
	return now
}

// What is told before is what happens: what goes, what stays and why, what becomes free.
func TestARemovalIsToldOfBefore(t *testing.T) {
	t.Parallel()
	w := makeUndoWorld(t)
	plan := func(query string) (p api.RemovalPlan) {
		require.NoError(t, json.Unmarshal(kit.AsAdmin(t, w.s, http.MethodGet, "/api/v1/removal-plan?"+query, ""), &p))
		return p
	}
	whole := plan("repository=n/app&reference=stable&whole=true")
	assert.Equal(t, []int{2, 3, 1}, []int{len(whole.Tags), len(whole.Images), len(whole.Kept)})
	assert.Equal(t, "the tag only points to it", whole.Kept[0].Why)
	assert.Equal(t, w.index.Size+w.only.Size+w.signature.Size, whole.Freed, "the layer and the config stay, the documents go")
	one := plan("repository=n/app&reference=stable")
	assert.Equal(t, []int{2, 1, 3}, []int{len(one.Tags), len(one.Images), len(one.Kept)})
	assert.Equal(t, w.index.Size, one.Freed)
	all := plan("namespace=n")
	assert.Equal(t, []int64{2, 4, 5}, []int64{all.Repositories, all.TagCount, all.ImageCount})
	assert.Greater(t, all.Freed, int64(5000))
	answer, raw := w.s.Do(http.MethodGet, "/api/v1/removal-plan?repository=n/app&reference="+w.shared.Digest.String(), nil)
	assert.Equal(t, http.StatusConflict, answer.StatusCode, "a live parent says no: %s", raw)
}

// A name that is taken meanwhile is told, with another that is free, and nothing is
// brought back; what else is needed comes with it, or nothing does.
func TestANameThatIsTakenIsNeverOverwritten(t *testing.T) {
	t.Parallel()
	w := makeUndoWorld(t)
	kit.AsAdmin(t, w.s, http.MethodPost, "/api/v1/tags?repository=n/app", `{"changes":[{"act":"remove","tag":"stable"},{"act":"remove","tag":"1.0.0"}]}`)
	first := w.removals("place=n/app")[0].ID
	// The image goes too, by another removal.
	kit.AsAdmin(t, w.s, http.MethodDelete, "/api/v1/image?whole=true&repository=n/app&digest="+w.index.Digest.String(), "")
	kit.AsAdmin(t, w.s, http.MethodPost, "/api/v1/tags?repository=n/app", `{"changes":[{"act":"add","tag":"stable","to":"only"}]}`)
	code, said := w.undo(first, "{}")
	assert.Equal(t, http.StatusConflict, code)
	assert.Contains(t, said, "nothing was brought back: the tag stable points to "+w.shared.Digest.String()+" now, and not to what went; take another name, as stable-restored")
	assert.Empty(t, target(t, w.s, "n/app", "1.0.0"))
	var contents api.RemovalContents
	require.NoError(t, json.Unmarshal(kit.AsAdmin(t, w.s, http.MethodGet, fmt.Sprintf("/api/v1/removals/%d", first), ""), &contents))
	require.Len(t, contents.TagList, 2)
	assert.Equal(t, api.GoneTag{Tag: "stable", Digest: w.index.Digest, Now: w.shared.Digest, Offer: "stable-restored"}, contents.TagList[1])
	for _, wrong := range []string{`{"as":{"stable":"only"}}`, `{"as":{"stable":"1.0.0"}}`, `{"as":{"never":"x"}}`, `{"as":{"stable":"a b"}}`, `{"name":"n/x"}`} {
		code, said = w.undo(first, wrong)
		assert.GreaterOrEqual(t, code, 400, "%s: %s", wrong, said)
	}
	code, said = w.undo(first, `{"as":{"stable":"steady"}}`)
	require.Equal(t, http.StatusOK, code, said)
	assert.Equal(t, w.index.Digest.String(), target(t, w.s, "n/app", "steady"))
	assert.Equal(t, w.index.Digest.String(), target(t, w.s, "n/app", "1.0.0"))
	code, _ = kit.Status(w.s, http.MethodGet, "/v2/n/app/manifests/"+w.only.Digest.String())
	assert.Equal(t, http.StatusOK, code, "the child came with it")

	// A repository whose name is taken comes back under another.
	kit.AsAdmin(t, w.s, http.MethodDelete, "/api/v1/repository?repository=n/app", "")
	kit.PutBlob(t, w.s, "n/app", []byte("another one"))
	gone := w.removals("place=n")[0].ID
	// What a name meant belongs to the row: who owns the new one may not bring back the old.
	kit.MakeAccount(t, w.s, "newcomer")
	kit.AsAdmin(t, w.s, http.MethodPut, "/api/v1/roles", `{"place":"n/app","account":"newcomer","role":"owner"}`)
	answer, raw := w.s.Do(http.MethodPost, fmt.Sprintf("/api/v1/removals/%d/undo", gone), strings.NewReader(`{"name":"n/mine"}`), append([]string{"Content-Type", "application/json"}, kit.Basic("newcomer", kit.MemberPassword)...)...)
	assert.Equal(t, http.StatusNotFound, answer.StatusCode, "%s", raw)
	code, said = w.undo(gone, "{}")
	assert.Equal(t, http.StatusConflict, code)
	assert.Contains(t, said, "the name n/app is taken")
	code, said = w.undo(gone, `{"name":"m/app"}`)
	assert.Contains(t, said, "begins with n/", code)
	code, said = w.undo(gone, `{"name":"n/app-restored"}`)
	require.Equal(t, http.StatusOK, code, said)
	assert.Equal(t, w.index.Digest.String(), target(t, w.s, "n/app-restored", "steady"))
}

// Windows are a setting of the registry, and of a namespace up to the registry's.
func TestRestoreWindowsAreSettings(t *testing.T) {
	t.Parallel()
	w := makeUndoWorld(t)
	left := func() float64 {
		list := w.removals("")
		return list[0].Until.Sub(list[0].At).Hours()
	}
	kit.AsAdmin(t, w.s, http.MethodDelete, "/v2/n/app/manifests/stable", "")
	assert.InDelta(t, 14*24, left(), 0.1)
	kit.AsAdmin(t, w.s, http.MethodPatch, "/api/v1/namespaces/n", `{"restore_window":"2d"}`)
	assert.InDelta(t, 48, left(), 0.1)
	kit.AsAdmin(t, w.s, http.MethodPut, "/api/v1/settings", `{"accounts_make_namespaces":false,"push_makes_namespaces":true,"restore_window":"6h"}`)
	assert.InDelta(t, 6, left(), 0.1, "at most as the registry has it")
	kit.AsAdmin(t, w.s, http.MethodPatch, "/api/v1/namespaces/n", `{"restore_window":""}`)
	for _, wrong := range []string{"0h", "59m", "2y", "soon"} {
		answer, raw := w.s.Do(http.MethodPatch, "/api/v1/namespaces/n", strings.NewReader(`{"restore_window":"`+wrong+`"}`), "Content-Type", "application/json")
		assert.Equal(t, http.StatusUnprocessableEntity, answer.StatusCode, "%s: %s", wrong, raw)
	}
	// A namespace's list has what its repositories lost.
	assert.Len(t, w.removals(url.Values{"place": {"n"}}.Encode()), 1)
}
