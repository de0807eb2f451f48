package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/api"
	"warthesis/internal/kit"
	"warthesis/internal/oci"
)

// sealedWorld is a namespace with sealed tags, and what is needed to attack them.
type sealedWorld struct {
	t *testing.T
	s *kit.Service
	// sealed are tags with what they point to; child is named by the index of the last.
	sealed map[string]oci.Digest
	names  []string
	child  oci.Digest
	config oci.Digest
	// removal took a tag that is sealed now under another digest.
	removal int64
}

const sealedRules = `{"words":"- free: \"*:latest\"\n- free: \"*:free-*\"\n- seal: \"*:<version>\"\n  because: boxes run it\n","reason":"a test"}`

func sealTheWorld(t *testing.T) *sealedWorld {
	s := kit.Start(t, t.TempDir())
	w := &sealedWorld{t: t, s: s, sealed: map[string]oci.Digest{}}
	w.config = kit.PutBlob(t, s, "boxes/relay", []byte("{}"))
	for i := range 4 {
		tag := fmt.Sprintf("1.0.%d", i)
		w.sealed[tag] = kit.PutManifest(t, s, "boxes/relay", tag, oci.MediaTypeImage, kit.Artifact(w.config, nil, "application/x.one", i)).Digest
		w.names = append(w.names, tag)
	}
	child := kit.PutManifest(t, s, "boxes/relay", "", oci.MediaTypeImage, kit.Artifact(w.config, nil, "application/x.one", 50))
	w.child = child.Digest
	w.sealed["2.0.0"] = kit.PutManifest(t, s, "boxes/relay", "2.0.0", oci.MediaTypeIndex, map[string]any{
		"schemaVersion": 2, "mediaType": oci.MediaTypeIndex, "manifests": []oci.Descriptor{child},
	}).Digest
	w.names = append(w.names, "2.0.0")
	kit.PutManifest(t, s, "boxes/relay", "latest", oci.MediaTypeImage, kit.Artifact(w.config, nil, "application/x.one", 100))
	kit.PutManifest(t, s, "boxes/relay", "3.0.0", oci.MediaTypeImage, kit.Artifact(w.config, nil, "application/x.one", 101))
	var done api.TagsChanged
	require.NoError(t, json.Unmarshal(kit.AsAdmin(t, s, http.MethodPost, "/api/v1/tags?repository=boxes/relay", `{"changes":[{"act":"remove","tag":"3.0.0"}]}`), &done))
	w.removal = done.Removal
	w.sealed["3.0.0"] = kit.PutManifest(t, s, "boxes/relay", "3.0.0", oci.MediaTypeImage, kit.Artifact(w.config, nil, "application/x.one", 102)).Digest
	w.names = append(w.names, "3.0.0")
	kit.AsAdmin(t, s, http.MethodPut, "/api/v1/rules?place=boxes", sealedRules)
	kit.PutManifest(t, s, "boxes/relay", "by-hand", oci.MediaTypeImage, kit.Artifact(w.config, nil, "application/x.one", 60))
	w.sealed["by-hand"] = oci.Digest(target(t, s, "boxes/relay", "by-hand"))
	w.names = append(w.names, "by-hand")
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/seal?repository=boxes/relay", `{"tag":"by-hand","seal":true,"reason":"shown at the fair"}`)
	return w
}

func (w *sealedWorld) artifact(number int) []byte {
	raw, err := json.Marshal(kit.Artifact(w.config, nil, "application/x.one", number))
	require.NoError(w.t, err)
	return raw
}

// attacks are the doors by which a sealed tag could be moved or taken away.
func (w *sealedWorld) attacks() []func(tag string, n int) (method, path string, body []byte, kind string) {
	const manifest, tags = "/v2/boxes/relay/manifests/", "/api/v1/tags?repository=boxes/relay"
	asJSON := func(method, path, format string, values ...any) (string, string, []byte, string) {
		return method, path, fmt.Appendf(nil, format, values...), "application/json"
	}
	type act = func(tag string, n int) (string, string, []byte, string)
	return []act{
		func(tag string, n int) (string, string, []byte, string) {
			return http.MethodPut, manifest + tag, w.artifact(1000 + n), oci.MediaTypeImage
		},
		func(tag string, n int) (string, string, []byte, string) {
			raw := w.artifact(1000 + n)
			return http.MethodPut, manifest + oci.DigestOf(oci.SHA256, raw).String() + "?tag=free-x&tag=" + tag, raw, oci.MediaTypeImage
		},
		func(tag string, _ int) (string, string, []byte, string) {
			return http.MethodDelete, manifest + tag, nil, ""
		},
		func(tag string, _ int) (string, string, []byte, string) {
			return http.MethodDelete, manifest + w.sealed[tag].String(), nil, ""
		},
		func(string, int) (string, string, []byte, string) {
			return http.MethodDelete, manifest + w.child.String(), nil, ""
		},
		func(string, int) (string, string, []byte, string) {
			return http.MethodDelete, "/v2/boxes/relay/blobs/" + w.config.String(), nil, ""
		},
		func(tag string, _ int) (string, string, []byte, string) {
			return asJSON(http.MethodPost, tags, `{"changes":[{"act":"move","tag":%q,"to":"latest"}]}`, tag)
		},
		func(tag string, n int) (string, string, []byte, string) {
			return asJSON(http.MethodPost, tags, `{"changes":[{"act":"rename","tag":%q,"name":"free-%d"}]}`, tag, n)
		},
		func(tag string, _ int) (string, string, []byte, string) {
			return asJSON(http.MethodPost, tags, `{"changes":[{"act":"add","tag":"free-y","to":"latest"},{"act":"remove","tag":%q}]}`, tag)
		},
		func(tag string, _ int) (string, string, []byte, string) {
			return http.MethodDelete, "/api/v1/image?whole=true&repository=boxes/relay&digest=" + w.sealed[tag].String(), nil, ""
		},
		func(string, int) (string, string, []byte, string) {
			return http.MethodDelete, "/api/v1/repository?repository=boxes/relay", nil, ""
		},
		func(string, int) (string, string, []byte, string) {
			return http.MethodDelete, "/api/v1/namespaces/boxes", nil, ""
		},
		func(_ string, n int) (string, string, []byte, string) {
			return asJSON(http.MethodPatch, "/api/v1/repository?repository=boxes/relay", `{"rename":"boxes/other%d"}`, n)
		},
		func(_ string, n int) (string, string, []byte, string) {
			return asJSON(http.MethodPatch, "/api/v1/namespaces/boxes", `{"rename":"other%d"}`, n)
		},
		func(string, int) (string, string, []byte, string) {
			return asJSON(http.MethodPost, fmt.Sprintf("/api/v1/removals/%d/undo", w.removal), `{}`)
		},
		func(tag string, _ int) (string, string, []byte, string) {
			return asJSON(http.MethodPost, fmt.Sprintf("/api/v1/removals/%d/undo", w.removal), `{"as":{"3.0.0":%q}}`, tag)
		},
	}
}

// Thousands of tries by every door at once, of an admin, beside what is legal: none gets
// through, and nothing legal is refused.
func TestASealedTagIsAttackedThroughEveryDoor(t *testing.T) {
	t.Parallel()
	w := sealTheWorld(t)
	doors := w.attacks()
	const workers, each = 80, 30
	var refused [20]atomic.Int64
	var wg sync.WaitGroup
	for worker := range workers {
		wg.Go(func() {
			random := rand.New(rand.NewPCG(uint64(worker), 7))
			for n := range each {
				door := random.IntN(len(doors))
				method, path, body, kind := doors[door](w.names[random.IntN(len(w.names))], worker*each+n)
				answer, raw, err := w.s.Try(method, path, bytes.NewReader(body), "Content-Type", kind)
				if !assert.NoError(t, err) || !assert.GreaterOrEqual(t, answer.StatusCode, 400, "%s %s %s: %s", method, path, body, raw) ||
					!assert.Less(t, answer.StatusCode, 500, "%s %s: %s", method, path, raw) {
					return
				}
				refused[door].Add(1)
			}
		})
	}
	var legal sync.WaitGroup
	stop := make(chan struct{})
	for worker := range 2 {
		legal.Go(func() {
			for n := 0; ; n++ {
				select {
				case <-stop:
					assert.Greater(t, n, 2)
					return
				default:
				}
				tag := w.names[n%4]
				same, raw, err := w.s.Try(http.MethodPut, "/v2/boxes/relay/manifests/"+tag, bytes.NewReader(w.artifact(n%4)), "Content-Type", oci.MediaTypeImage)
				if !assert.NoError(t, err) || !assert.Equal(t, http.StatusCreated, same.StatusCode, "the same digest again: %s", raw) {
					return
				}
				for _, free := range []string{"latest", fmt.Sprintf("free-%d-%d", worker, n), fmt.Sprintf("9.%d.%d", worker, n)} {
					answer, raw, err := w.s.Try(http.MethodPut, "/v2/boxes/relay/manifests/"+free, bytes.NewReader(w.artifact(200+n%2)), "Content-Type", oci.MediaTypeImage)
					if !assert.NoError(t, err) || !assert.Equal(t, http.StatusCreated, answer.StatusCode, "%s: %s", free, raw) {
						return
					}
				}
				answer, raw, err := w.s.Try(http.MethodDelete, fmt.Sprintf("/v2/boxes/relay/manifests/free-%d-%d", worker, n), nil)
				if !assert.NoError(t, err) || !assert.Equal(t, http.StatusAccepted, answer.StatusCode, "%s", raw) {
					return
				}
			}
		})
	}
	wg.Wait()
	close(stop)
	legal.Wait()
	for door := range doors {
		assert.Positive(t, refused[door].Load(), "door %d was not tried", door)
	}
	for tag, digest := range w.sealed {
		assert.Equal(t, digest.String(), target(t, w.s, "boxes/relay", tag), tag)
		var log api.TagMoveList
		require.NoError(t, json.Unmarshal(kit.AsAdmin(t, w.s, http.MethodGet, "/api/v1/tag-log?repository=boxes/relay&tag="+tag, ""), &log))
		lines := 1
		if tag == "3.0.0" {
			lines = 3
		}
		assert.Len(t, log.Moves, lines, tag)
	}
	assert.Empty(t, target(t, w.s, "boxes/relay", "free-x"), "all or none")
}

// What is refused reaches clients in the standard's form, and says which rule, why, and
// what to do.
func TestARefusalBySealsSaysWhatToDo(t *testing.T) {
	t.Parallel()
	w := sealTheWorld(t)
	answer, raw := w.s.Do(http.MethodPut, "/v2/boxes/relay/manifests/1.0.2", bytes.NewReader(w.artifact(9)), "Content-Type", oci.MediaTypeImage)
	assert.Equal(t, http.StatusForbidden, answer.StatusCode)
	var body struct {
		Errors []struct {
			Code, Message string
			Detail        struct{ Tag, Digest, Rule, Because, Next string }
		}
	}
	require.NoError(t, json.Unmarshal(raw, &body))
	require.Len(t, body.Errors, 1)
	assert.Equal(t, "DENIED", body.Errors[0].Code)
	assert.Equal(t, "the tag 1.0.2 of boxes/relay is sealed and stays at "+w.sealed["1.0.2"].String()+`: rule 3 of the namespace boxes says: seal: "*:<version>" (boxes run it); use another tag, such as 3.0.1, the next free version, or ask an owner to change that`,
		strings.Split(body.Errors[0].Message, " (request")[0])
	assert.Equal(t, "3.0.1", body.Errors[0].Detail.Next)
	assert.Equal(t, "boxes run it", body.Errors[0].Detail.Because)

	_, raw = w.s.Do(http.MethodDelete, "/api/v1/namespaces/boxes", nil)
	assert.Contains(t, string(raw), "and 6 more tags there. So boxes stays as it is")
	// An admin goes over seals with a reason, and it is in the log.
	_, raw = w.s.Do(http.MethodDelete, "/api/v1/namespaces/boxes?over_seals=+", nil)
	assert.Contains(t, string(raw), "a reason is missing")
	var gone api.RemovedBy
	require.NoError(t, json.Unmarshal(kit.AsAdmin(t, w.s, http.MethodDelete, "/api/v1/namespaces/boxes?over_seals=the+company+was+sold", ""), &gone))
	assert.Contains(t, string(kit.AsAdmin(t, w.s, http.MethodGet, "/api/v1/audit?kind=namespace-removed", "")), "over seals: the company was sold")
	kit.AsAdmin(t, w.s, http.MethodPost, fmt.Sprintf("/api/v1/removals/%d/undo", gone.Removal), "{}")
	answer, _ = w.s.Do(http.MethodDelete, "/v2/boxes/relay/manifests/by-hand", nil)
	assert.Equal(t, http.StatusForbidden, answer.StatusCode, "seals come back with what they are on")
}

// Rules are checked whole, take a reason, are in the audit log with what they change, act
// where lists with names are used, and are told of before they act.
func TestRulesAreSetWholeAndToldOf(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	versions(t, s, "n/a", "1.0.0", "latest", "night")
	for range 2 {
		kit.PutManifest(t, s, "n/a", "night", oci.MediaTypeImage, kit.Artifact(oci.DigestOf(oci.SHA256, []byte("{}")), nil, "application/x.one", rand.IntN(1000)+10))
	}
	set := func(at, words, reason string) (int, string) {
		raw, err := json.Marshal(api.SetRules{Words: words, Reason: reason})
		require.NoError(t, err)
		answer, body := s.Do(http.MethodPut, "/api/v1/rules?"+at, bytes.NewReader(raw), "Content-Type", "application/json")
		return answer.StatusCode, string(body)
	}
	for _, wrong := range []struct{ at, words, reason, says string }{
		{"place=n", "- seal: x", "", "a reason is missing"}, {"place=n", "- seal: x\n- sael: y", "x", "line 2, in rule 2"},
		{"place=n", "- use: nothing", "x", "there is no list nothing to use"}, {"list=some", "- use: other", "x", `\"use\" is nothing`},
		{"place=n&list=some", "", "x", "give one of place and list"}, {"list=Some", "", "x", "no name of a list"}, {"place=m", "", "x", "there is no namespace m"},
	} {
		code, said := set(wrong.at, wrong.words, wrong.reason)
		assert.GreaterOrEqual(t, code, 400, wrong.words)
		assert.Contains(t, said, wrong.says)
	}
	var p api.RulePreview
	require.NoError(t, json.Unmarshal(kit.AsAdmin(t, s, http.MethodPost, "/api/v1/rules/preview?place=n", `{"words":"- seal: [\"*:night\", \"*:<version>\"]"}`), &p))
	assert.Equal(t, []int{1, 3, 2, 2, 0, 2}, []int{p.Reaches, p.Tags, p.Sealed, p.NewlySealed, p.Freed, p.Refused}, "what it would seal, and would have refused")
	assert.Equal(t, "move", p.Refusals[0].Act)
	require.NoError(t, json.Unmarshal(kit.AsAdmin(t, s, http.MethodPost, "/api/v1/rules/preview?place=n", `{"words":"- seal: \"other/*\""}`), &p))
	assert.Zero(t, p.Reaches)

	code, said := set("list=boxes", "- seal: \"*:night\"\n", "boxes run it")
	require.Equal(t, http.StatusNoContent, code, said)
	code, said = set("place=n", "- use: boxes\n", "as elsewhere")
	require.Equal(t, http.StatusNoContent, code, said)
	sealed := func(tag string) string {
		var e api.RuleExplanation
		require.NoError(t, json.Unmarshal(kit.AsAdmin(t, s, http.MethodGet, "/api/v1/rules/explain?repository=n/a&tag="+tag, ""), &e))
		if e.Seal == nil {
			return ""
		}
		return e.Seal.Why
	}
	assert.Equal(t, `rule 1 of the list boxes (used by the namespace n) says: seal: "*:night"`, sealed("night"))
	require.NoError(t, json.Unmarshal(kit.AsAdmin(t, s, http.MethodPost, "/api/v1/rules/preview?list=boxes", `{"words":"- seal: \"*:latest\""}`), &p))
	assert.Equal(t, []int{1, 1, 1}, []int{p.Reaches, p.NewlySealed, p.Freed}, "a list with a name is looked at where it is used")
	code, said = set("list=boxes", "- seal: \"*:latest\"\n", "another one")
	require.Equal(t, http.StatusNoContent, code, said)
	assert.Empty(t, sealed("night"), "a change of a list acts where it is used")
	assert.NotEmpty(t, sealed("latest"))
	answer, raw := s.Do(http.MethodDelete, "/api/v1/rules?list=boxes&reason=x", nil)
	assert.Equal(t, http.StatusConflict, answer.StatusCode, "%s", raw)
	kit.AsAdmin(t, s, http.MethodDelete, "/api/v1/rules?place=n&reason=over", "")
	assert.Empty(t, sealed("latest"))
	assert.Contains(t, string(kit.AsAdmin(t, s, http.MethodGet, "/api/v1/audit?kind=rules-set", "")), `another one: without seal: \"*:night\"; with seal: \"*:latest\" as rule 1`)
	// What binds at the registry is asked before what a namespace frees.
	code, said = set("", "- seal: \"*:latest\"\n  binding: true\n", "the audit")
	require.Equal(t, http.StatusNoContent, code, said)
	code, said = set("place=n/a", "- free: \"*\"\n", "ours")
	require.Equal(t, http.StatusNoContent, code, said)
	assert.Contains(t, sealed("latest"), "of the registry")
}
