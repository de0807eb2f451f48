package flow

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/api"
	"warthesis/internal/kit"
	"warthesis/internal/oci"
)

// pair starts two registries, of which each is a peer of the other: depot here, and
// headquarters there.
func pair(t *testing.T, more ...string) (here, there *kit.Service) {
	here, there = kit.Start(t, t.TempDir(), append(inside, more...)...), kit.Start(t, t.TempDir(), append(inside, more...)...)
	peerOf(t, here, "depot", there)
	peerOf(t, there, "headquarters", here)
	for _, s := range []*kit.Service{here, there} {
		kit.AsAdmin(t, s, http.MethodPost, "/api/v1/namespaces", `{"name":"signals"}`)
	}
	return here, there
}

// peerOf makes a registry a peer of another, with its admin's login.
func peerOf(t *testing.T, s *kit.Service, name string, of *kit.Service) {
	made := kit.RunWith(t, kit.Password+"\n", "peer", "make", s.Address, name, of.Address, "--account", kit.Admin, "--from-stdin", "--plain-http")
	require.Zero(t, made.Code, made.Out+made.Err)
}

func rule(t *testing.T, s *kit.Service, name string) (r api.Replication) {
	require.NoError(t, json.Unmarshal(kit.AsAdmin(t, s, http.MethodGet, "/api/v1/replications/"+name, ""), &r))
	return r
}

// rests waits until nothing is due by a rule.
func rests(t *testing.T, s *kit.Service, name string) (r api.Replication) {
	kit.Eventually(t, name+" comes to rest", func() bool {
		r = rule(t, s, name)
		return r.Due+r.Places == 0
	}, func() string { return fmt.Sprintf("%+v\n%s", r, s.Log()) })
	return r
}

// tagOf is what a tag points to, "" for none.
func tagOf(s *kit.Service, repository, tag string) string {
	answer, _ := s.Do(http.MethodHead, "/v2/"+repository+"/manifests/"+tag, nil)
	return answer.Header.Get("Docker-Content-Digest")
}

func imageOf(t *testing.T, seed int) kit.Image { return kit.NewImage(t, kit.Bytes(uint64(seed), 2000)) }

func push(t *testing.T, s *kit.Service, i kit.Image, reference string) {
	kit.Must(t, "push", i.Layout(t), s.Address+"/"+reference)
}

func TestARuleCopiesWhatIsThereAndWhatIsPushedWithWhatRefersToIt(t *testing.T) {
	t.Parallel()
	here, there := pair(t)
	first := imageOf(t, 1)
	push(t, here, first, "signals/relay:1.0.0")
	push(t, here, first, "signals/relay:night")
	kit.Must(t, "replication", "make", here.Address, "depot", "--copy", "signals/*:<version>", "--to", "depot", "--as", "signals/copies/{repository}:hq-{tag}")
	rests(t, here, "depot")
	assert.Equal(t, first.Manifest.Digest.String(), tagOf(there, "signals/copies/relay", "hq-1.0.0"))
	assert.Empty(t, tagOf(there, "signals/copies/relay", "hq-night"), "the rule does not mean it")

	second := imageOf(t, 2)
	push(t, here, second, "signals/relay:1.1.0")
	kit.Eventually(t, "what is pushed arrives", func() bool {
		return tagOf(there, "signals/copies/relay", "hq-1.1.0") == second.Manifest.Digest.String()
	})
	folder := t.TempDir() + "/pulled"
	kit.Must(t, "pull", there.Address+"/signals/copies/relay:hq-1.1.0", folder)
	kit.SameFiles(t, second, folder)

	// What refers to it comes too, also later, and what refers to that.
	config := kit.PutBlob(t, here, "signals/relay", []byte("{}"))
	signature := kit.PutManifest(t, here, "signals/relay", "", oci.MediaTypeImage, kit.Artifact(config, &second.Manifest, "application/example.signature", 1))
	kit.PutManifest(t, here, "signals/relay", "", oci.MediaTypeImage, kit.Artifact(config, &signature, "application/example.statement", 2))
	kit.Eventually(t, "what refers to the signature arrives", func() bool {
		_, body := kit.Status(there, http.MethodGet, "/v2/signals/copies/relay/referrers/"+signature.Digest.String())
		return strings.Contains(body, "example.statement")
	})
	r := rests(t, here, "depot")
	assert.Equal(t, "well", r.State)
	assert.EqualValues(t, 2, r.Copies)

	// A tag that is renamed, and one that goes: the other side keeps them.
	kit.Must(t, "tag", "remove", here.Address+"/signals/relay:1.0.0", "--yes")
	rests(t, here, "depot")
	assert.NotEmpty(t, tagOf(there, "signals/copies/relay", "hq-1.0.0"))
	assert.Contains(t, kit.Run(t, "peer", "remove", here.Address, "depot", "--yes").Err, "is used by the replication rules depot")
	kit.Must(t, "replication", "remove", here.Address, "depot", "--yes")
	assert.NotEmpty(t, tagOf(there, "signals/copies/relay", "hq-1.1.0"), "what a rule copied stays")
}

func TestNoTagIsOverwrittenThatSomebodyElseMoved(t *testing.T) {
	t.Parallel()
	here, there := pair(t)
	kit.Must(t, "replication", "make", here.Address, "depot", "--copy", "signals/*", "--to", "depot")
	one, two, three, four := imageOf(t, 1), imageOf(t, 2), imageOf(t, 3), imageOf(t, 4)
	push(t, here, one, "signals/relay:stable")
	kit.Eventually(t, "it arrives", func() bool { return tagOf(there, "signals/relay", "stable") == one.Manifest.Digest.String() })
	rests(t, here, "depot")

	// The peer moves on: that is its business.
	push(t, there, two, "signals/relay:stable")
	kit.Must(t, "replication", "run", here.Address, "depot")
	assert.Equal(t, two.Manifest.Digest.String(), tagOf(there, "signals/relay", "stable"))
	// Both moved it: a conflict that is told.
	push(t, here, three, "signals/relay:stable")
	kit.Eventually(t, "the conflict is told", func() bool { return rule(t, here, "depot").Conflicting == 1 })
	assert.Equal(t, two.Manifest.Digest.String(), tagOf(there, "signals/relay", "stable"))
	shown := kit.Must(t, "replication", "show", here.Address, "depot")
	for _, says := range []string{"both sides moved a tag", three.Manifest.Digest.String()[7:19], two.Manifest.Digest.String()[7:19]} {
		assert.Contains(t, shown, says)
	}
	assert.Equal(t, 5, kit.Run(t, "replication", "run", here.Address, "depot").Code)
	// A decision by hand.
	kit.Must(t, "replication", "run", here.Address, "depot", "--settle", "signals/relay:stable", "--yes")
	assert.Equal(t, three.Manifest.Digest.String(), tagOf(there, "signals/relay", "stable"))
	assert.Zero(t, rule(t, here, "depot").Conflicting)

	// At the first meeting a digest that the tag once had here is behind, another one is not.
	push(t, there, one, "signals/relay:old")
	push(t, there, four, "signals/relay:foreign")
	kit.Must(t, "replication", "pause", here.Address, "depot")
	for _, tag := range []string{"old", "foreign"} {
		push(t, here, one, "signals/relay:"+tag)
		push(t, here, two, "signals/relay:"+tag)
	}
	assert.EqualValues(t, 2, rule(t, here, "depot").Due, "many moves are one copy")
	kit.Must(t, "replication", "pause", here.Address, "depot", "--end")
	rests(t, here, "depot")
	assert.Equal(t, two.Manifest.Digest.String(), tagOf(there, "signals/relay", "old"))
	assert.Equal(t, four.Manifest.Digest.String(), tagOf(there, "signals/relay", "foreign"))
	// A rule may decide.
	kit.Must(t, "replication", "change", here.Address, "depot", "--conflicts", "ours")
	rests(t, here, "depot")
	kit.Eventually(t, "ours wins", func() bool { return tagOf(there, "signals/relay", "foreign") == two.Manifest.Digest.String() })

	// Drift is found whole, and put right on request.
	kit.Must(t, "replication", "change", here.Address, "depot", "--conflicts", "report")
	rests(t, here, "depot")
	push(t, there, four, "signals/relay:stable")
	push(t, there, four, "signals/relay:extra")
	push(t, there, four, "signals/nowhere-else:alone")
	kit.Must(t, "tag", "remove", there.Address+"/signals/relay:old", "--yes")
	var drift api.DriftReport
	found := kit.Run(t, "replication", "drift", here.Address, "depot", "--output", "json")
	assert.Equal(t, 5, found.Code, found.Err)
	require.NoError(t, json.Unmarshal([]byte(found.Out), &drift))
	kinds := map[string]string{}
	for _, i := range drift.Items {
		kinds[string(i.Tag)] = i.Kind
	}
	assert.Equal(t, map[string]string{"stable": "different", "extra": "extra", "alone": "extra", "old": "missing"}, kinds)
	kit.Must(t, "replication", "drift", here.Address, "depot", "--put-right", "--yes")
	rests(t, here, "depot")
	assert.Equal(t, three.Manifest.Digest.String(), tagOf(there, "signals/relay", "stable"))
	assert.NotEmpty(t, tagOf(there, "signals/relay", "old"))
	assert.NotEmpty(t, tagOf(there, "signals/relay", "extra"), "what somebody else put there stays")
}

func TestTwoThatCopyToEachOtherComeToRest(t *testing.T) {
	t.Parallel()
	here, there := pair(t)
	kit.Must(t, "replication", "make", here.Address, "out", "--copy", "signals/*", "--to", "depot")
	kit.Must(t, "replication", "make", there.Address, "back", "--copy", "signals/*", "--to", "headquarters")
	images := make([]kit.Image, 4)
	for i := range images {
		images[i] = imageOf(t, i)
	}
	same := func(tag string) bool {
		return tagOf(here, "signals/relay", tag) == tagOf(there, "signals/relay", tag) && tagOf(here, "signals/relay", tag) != ""
	}
	rest := func() {
		rests(t, here, "out")
		rests(t, there, "back")
	}
	for i := range 3 {
		push(t, here, images[i], "signals/relay:a")
		push(t, there, images[i], "signals/relay:b")
		kit.Eventually(t, "both have both", func() bool {
			return same("a") && same("b") && tagOf(there, "signals/relay", "a") == images[i].Manifest.Digest.String()
		})
		rest()
	}
	// Both move one tag at the same time, back and forward: it is told, or both have the same.
	for i := range 8 {
		push(t, here, images[i%4], "signals/relay:c")
		push(t, there, images[(i+1)%4], "signals/relay:c")
	}
	rest()
	settled := func() (a, b string) { return tagOf(here, "signals/relay", "c"), tagOf(there, "signals/relay", "c") }
	a, b := settled()
	for range 3 {
		rest()
		x, y := settled()
		require.Equal(t, [2]string{a, b}, [2]string{x, y}, "nothing moves any more")
	}
	if a != b {
		assert.Positive(t, rule(t, here, "out").Conflicting+rule(t, there, "back").Conflicting, "that both differ is told")
	}
}

func TestARuleBringsFromAForeignPeer(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir(), inside...)
	f := kit.StartForeign(t, nil)
	images := []kit.Image{imageOf(t, 1), imageOf(t, 2), imageOf(t, 3)}
	for i, image := range images {
		f.Put("tickets/printer", fmt.Sprintf("1.%d.0", i), image)
	}
	// A peer's name stands in the tag log beside what else moves tags.
	assert.Contains(t, kit.Run(t, "peer", "make", s.Address, "hand", f.Address, "--plain-http", "--prefix", "tickets", "--repository", "printer").Err, "take another name")
	kit.Must(t, "peer", "make", s.Address, "partner", f.Address, "--plain-http", "--prefix", "tickets", "--repository", "printer")
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/namespaces", `{"name":"outside"}`)
	assert.Contains(t, kit.Run(t, "replication", "make", s.Address, "all", "--copy", "*", "--from", "partner", "--when", "pushed").Err, "a peer does not tell")
	kit.Must(t, "replication", "make", s.Address, "tickets", "--copy", "printer", "--from", "partner", "--as", "outside/{namespace}", "--removals", "remove")
	kit.Must(t, "replication", "run", s.Address, "tickets")
	for i, image := range images {
		assert.Equal(t, image.Manifest.Digest.String(), tagOf(s, "outside/printer", fmt.Sprintf("1.%d.0", i)))
	}
	folder := t.TempDir() + "/pulled"
	kit.Must(t, "pull", s.Address+"/outside/printer:1.2.0", folder)
	kit.SameFiles(t, images[2], folder)
	var log api.TagMoveList
	require.NoError(t, json.Unmarshal(kit.AsAdmin(t, s, http.MethodGet, "/api/v1/tag-log?repository=outside/printer&tag=1.0.0", ""), &log))
	assert.Equal(t, "partner", log.Moves[0].Origin)

	// A second run asks once for each tag that is equal, and not for its content.
	f.Asked()
	kit.Must(t, "replication", "run", s.Address, "tickets")
	assert.Equal(t, 3, count(f.Asked(), "HEAD "))

	// What the peer has no more goes here, unless it is much at once.
	f.Forget("tickets/printer", "1.0.0")
	out := kit.Must(t, "replication", "run", s.Address, "tickets")
	assert.Contains(t, out, "removals that wait for a word")
	assert.NotEmpty(t, tagOf(s, "outside/printer", "1.0.0"))
	kit.Must(t, "replication", "run", s.Address, "tickets", "--removals", "--yes")
	assert.Empty(t, tagOf(s, "outside/printer", "1.0.0"))
	assert.Contains(t, kit.Must(t, "removal", "list", s.Address+"/outside/printer"), "partner has it no more")

	// Wrong bytes leave nothing.
	bad := imageOf(t, 9)
	f.Put("tickets/printer", "2.0.0", bad)
	f.Wrong(func(w http.ResponseWriter, r *http.Request) bool {
		if !strings.Contains(r.URL.Path, "/blobs/") {
			return false
		}
		_, _ = w.Write(make([]byte, 2000))
		return true
	})
	failed := kit.Run(t, "replication", "run", s.Address, "tickets")
	assert.NotZero(t, failed.Code)
	assert.Empty(t, tagOf(s, "outside/printer", "2.0.0"))
	f.Wrong(nil)
	kit.Must(t, "replication", "run", s.Address, "tickets")
	assert.Equal(t, bad.Manifest.Digest.String(), tagOf(s, "outside/printer", "2.0.0"))
}

func TestADeadPeerSlowsNoOtherAndSaysWhy(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir(), inside...)
	dead, well := kit.StartForeign(t, nil), kit.StartForeign(t, nil)
	for name, f := range map[string]*kit.Foreign{"dead": dead, "well": well} {
		f.Put("signals/base", "1", imageOf(t, 99))
		kit.Must(t, "peer", "make", s.Address, name, f.Address, "--plain-http", "--repository", "signals/base")
		kit.Must(t, "replication", "make", s.Address, name, "--copy", "signals/*", "--to", name)
	}
	var refused atomic.Int64
	dead.Wrong(func(w http.ResponseWriter, _ *http.Request) bool {
		refused.Add(1)
		w.Header().Set("Retry-After", "3600")
		w.WriteHeader(http.StatusTooManyRequests)
		return true
	})
	for i := range 5 {
		push(t, s, imageOf(t, i), fmt.Sprintf("signals/relay:%d", i))
	}
	rests(t, s, "well")
	assert.NotEmpty(t, well.Tag("signals/relay", "4"))
	// Images that travel together share layers: each is sent once.
	kit.Must(t, "replication", "pause", s.Address, "well")
	shared := kit.Bytes(50, 300_000)
	for i := range 6 {
		push(t, s, kit.NewImage(t, shared, kit.Bytes(uint64(60+i), 100)), fmt.Sprintf("signals/shared:%d", i))
	}
	well.Asked()
	kit.Must(t, "replication", "pause", s.Address, "well", "--end")
	rests(t, s, "well")
	uploads := 0
	for _, asked := range well.Asked() {
		if asked == "POST /v2/signals/shared/blobs/uploads/" {
			uploads++
		}
	}
	assert.Equal(t, 13, uploads, "one shared layer, and a layer and a config of each")
	kit.Eventually(t, "it is told", func() bool { return rule(t, s, "dead").State == "failing" })
	r := rule(t, s, "dead")
	assert.Contains(t, r.Error, "429")
	assert.Greater(t, *r.AgainIn, int64(3000), "who asks to be left alone is")
	assert.EqualValues(t, 11, r.Due)
	asked := refused.Load()
	assert.LessOrEqual(t, asked, int64(8))

	// One that does not keep lists of referrers is given them as the standard says.
	signed := imageOf(t, 4)
	config := kit.PutBlob(t, s, "signals/relay", []byte("{}"))
	signature := kit.PutManifest(t, s, "signals/relay", "", oci.MediaTypeImage, kit.Artifact(config, &signed.Manifest, "application/example.signature", 1))
	kit.Eventually(t, "the signature is listed there", func() bool { return well.Tag("signals/relay", "sha256-"+signed.Manifest.Digest.Encoded()) != "" })
	assert.True(t, well.Has("signals/relay", signature.Digest))
	var drift api.DriftReport
	require.NoError(t, json.Unmarshal([]byte(kit.Run(t, "replication", "drift", s.Address, "well", "--output", "json").Out), &drift))
	assert.Equal(t, [3]int64{0, 0, 0}, [3]int64{drift.Missing, drift.Different, drift.Extra}, "a list of referrers is no tag: %v", drift.Items)

	// By hand it is tried at once, and a kill changes nothing.
	dead.Wrong(nil)
	s.Kill()
	s.Restart()
	kit.Must(t, "replication", "run", s.Address, "dead")
	for i := range 5 {
		assert.Equal(t, imageOf(t, i).Manifest.Digest, dead.Tag("signals/relay", fmt.Sprint(i)))
	}
	// Who may not push is told what is wrong with what.
	dead.Wrong(func(w http.ResponseWriter, r *http.Request) bool {
		if !strings.Contains(r.URL.Path, "/signals/secret/") {
			return false
		}
		w.WriteHeader(http.StatusForbidden)
		return true
	})
	push(t, s, imageOf(t, 7), "signals/secret:1")
	push(t, s, imageOf(t, 8), "signals/relay:8")
	kit.Eventually(t, "the other one travels", func() bool { return dead.Tag("signals/relay", "8") != "" })
	kit.Eventually(t, "it is told", func() bool { return rule(t, s, "dead").Failing == 1 })
	assert.Contains(t, kit.Must(t, "replication", "show", s.Address, "dead"), "signals/secret:1")

	// Some say so by asking for a login, which is no word about other places; where the login
	// itself is not taken, nothing is tried with it again and again.
	dead.Wrong(func(w http.ResponseWriter, r *http.Request) bool {
		if !strings.Contains(r.URL.Path, "/signals/hidden/") {
			return false
		}
		w.Header().Set("WWW-Authenticate", `Basic realm="foreign"`)
		w.WriteHeader(http.StatusUnauthorized)
		return true
	})
	push(t, s, imageOf(t, 7), "signals/hidden:1")
	push(t, s, imageOf(t, 9), "signals/relay:9")
	kit.Eventually(t, "the other one travels", func() bool { return dead.Tag("signals/relay", "9") != "" })
	kit.Eventually(t, "it is told", func() bool { r := rule(t, s, "dead"); return r.Failing > 0 && r.AgainIn == nil })
	dead.Wrong(nil)
	dead.LogIn("somebody", "else")
	for i := range 20 {
		push(t, s, imageOf(t, 20+i), fmt.Sprintf("signals/relay:late-%d", i))
	}
	kit.Eventually(t, "the peer is left alone", func() bool { return rule(t, s, "dead").AgainIn != nil })
	assert.Contains(t, rule(t, s, "dead").Error, "account")
}

func TestRemovalsTravelOnceTheyCannotBeUndone(t *testing.T) {
	t.Parallel()
	here, there := pair(t, "--short-windows", "--restore-window", "2s")
	kit.Must(t, "replication", "make", here.Address, "depot", "--copy", "signals/*", "--to", "depot", "--removals", "remove")
	image := imageOf(t, 1)
	for i := range 10 {
		push(t, here, image, fmt.Sprintf("signals/relay:%d", i))
	}
	push(t, there, image, "signals/relay:theirs")
	push(t, here, image, "signals/relay:theirs")
	kit.Eventually(t, "all is there", func() bool { return rule(t, here, "depot").Copies == 11 })
	remove := func(tags ...string) {
		for _, tag := range tags {
			kit.Must(t, "tag", "remove", here.Address+"/signals/relay:"+tag, "--yes")
		}
	}
	remove("1")
	kit.Eventually(t, "it waits", func() bool {
		r := rule(t, here, "depot")
		return r.Waits == 1 || tagOf(there, "signals/relay", "1") == ""
	})
	kit.Eventually(t, "it goes", func() bool { return tagOf(there, "signals/relay", "1") == "" }, func() string { return kit.Must(t, "replication", "show", here.Address, "depot") })
	// What the rule did not put there stays; what would be much waits for a word.
	remove("theirs", "2", "3", "4")
	kit.Eventually(t, "it asks", func() bool { return rule(t, here, "depot").Asks == 3 })
	rests(t, here, "depot")
	assert.NotEmpty(t, tagOf(there, "signals/relay", "theirs"))
	kit.Must(t, "replication", "run", here.Address, "depot", "--removals", "--yes")
	kit.Eventually(t, "the rest goes", func() bool {
		return tagOf(there, "signals/relay", "2")+tagOf(there, "signals/relay", "3")+tagOf(there, "signals/relay", "4") == ""
	})
	assert.NotEmpty(t, tagOf(there, "signals/relay", "theirs"))
	assert.NotEmpty(t, tagOf(there, "signals/relay", "5"))
	kit.Eventually(t, "what was removed is no copy any more", func() bool { return rule(t, here, "depot").Copies == 7 })
}

func TestRulesAreADocumentToo(t *testing.T) {
	t.Parallel()
	here, _ := pair(t)
	file := filepath.Join(t.TempDir(), "rules.yaml")
	write := func(text string) { require.NoError(t, os.WriteFile(file, []byte(text), 0o600)) }
	write("replication:\n  - name: depot\n    copy: \"signals/*:<version>\"\n    to: depot\n    rate: 64KiB\n  - name: back\n    copy: signals/relay\n    from: depot\n    when: 1h\n")
	assert.Contains(t, kit.Must(t, "replication", "set", here.Address, file, "--try"), "would be made: depot, back")
	assert.Contains(t, kit.Must(t, "replication", "list", here.Address), "has no replication rules")
	kit.Must(t, "replication", "set", here.Address, file)
	text := kit.Must(t, "replication", "list", here.Address, "--yaml")
	write(text)
	assert.Contains(t, kit.Must(t, "replication", "set", here.Address, file), "left as they are: back, depot")
	write("- name: depot\n  copy: \"signals/*\"\n  to: nobody\n")
	assert.Contains(t, kit.Run(t, "replication", "set", here.Address, file, "--yes").Err, `there is no peer "nobody"`)
	assert.Contains(t, kit.Must(t, "replication", "list", here.Address), "from depot", "nothing was changed")
	// A rate holds, within what a second brings.
	kit.Must(t, "replication", "remove", here.Address, "back", "--yes")
	push(t, here, kit.NewImage(t, kit.Bytes(5, 192<<10)), "signals/relay:2.0.0")
	began := time.Now()
	rests(t, here, "depot")
	assert.Greater(t, time.Since(began), 2*time.Second, "192 KiB at 64 KiB a second")
	// Facing rules that both win are refused.
	kit.Must(t, "replication", "change", here.Address, "depot", "--conflicts", "ours")
	assert.Contains(t, kit.Run(t, "replication", "make", here.Address, "back", "--copy", "signals/relay", "--from", "depot", "--conflicts", "theirs").Err, "without end")
}
