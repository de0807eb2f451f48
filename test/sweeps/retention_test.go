package sweeps

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/api"
	"warthesis/internal/kit"
)

func written(t testing.TB, words string) string {
	file := filepath.Join(t.TempDir(), "words")
	require.NoError(t, os.WriteFile(file, []byte(words), 0o600))
	return file
}

// What a person sees of retention rules: a preview, the wait, what went and why, and the way
// back.
func TestRetentionRulesWaitTellAndActAndAreUndone(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir(), "--short-windows", "--grace", "1s", "--rule-wait", "1h", "--retention-at", "never", "--sweep-at", "never")
	planner := s.Address + "/timetable/planner"
	for i := range 12 {
		push(t, s, "timetable/planner", fmt.Sprintf("1.%d.0", i), kit.Bytes(1, 5000), kit.Bytes(uint64(100+i), 2000))
	}
	kit.Must(t, "tag", "seal", planner+":1.0.0", "--reason", "the winter timetable")
	rules := written(t, "- keep: \"*:<release>\"\n  newest: 10\n- drop: \"*:<release>\"\n  because: ten are enough\n")

	said := kit.Must(t, "retention", "preview", planner, rules)
	assert.Contains(t, said, "Lets go")
	var p api.RetentionPreview
	require.NoError(t, json.Unmarshal([]byte(kit.Must(t, "retention", "preview", planner, rules, "--output", "json")), &p))
	assert.Equal(t, []int{0, 1, 0}, []int{p.Days[0].Tags, p.Days[1].Tags, p.Days[2].Tags}, "it waits first")
	assert.Equal(t, 1, p.Sealed)
	require.Len(t, p.Items, 1)
	assert.Equal(t, "1.1.0", string(p.Items[0].Tag))
	assert.True(t, p.Items[0].New)
	assert.Greater(t, p.Days[1].Bytes, int64(2000))
	lines, err := csv.NewReader(strings.NewReader(kit.Must(t, "retention", "preview", planner, rules, "--csv"))).ReadAll()
	require.NoError(t, err)
	require.Len(t, lines, 2)
	assert.Equal(t, "1.1.0", lines[1][3])

	kit.Must(t, "retention", "set", planner, rules, "--reason", "the disk is small")
	assert.Contains(t, kit.Run(t, "retention", "show", planner).Err, "It waits")
	run(t, s, "retention/run", `{"place":"timetable/planner"}`)
	assert.Contains(t, kit.Must(t, "list", planner), "1.1.0", "a list that waits takes nothing")
	assert.Contains(t, kit.Must(t, "retention", "explain", planner+":1.1.0"), "because the list waits: rule 2 of the repository timetable/planner says")
	assert.Contains(t, kit.Must(t, "retention", "explain", planner+":1.0.0"), "somebody sealed it by hand")

	kit.Must(t, "retention", "change", planner, "--at-once", "--reason", "looked at it together", "--yes")
	out := kit.Must(t, "retention", "run", planner, "--yes")
	assert.Contains(t, out, "1 tag and 1 image went")
	id := asked[api.RunList](t, s, http.MethodGet, "runs?kind=retention", "").Runs[0].ID
	list := kit.Must(t, "removal", "list", planner, "--run", strconv.FormatInt(id, 10))
	assert.Contains(t, list, "a rule")
	assert.Contains(t, list, "ten are enough")
	assert.NotContains(t, kit.Must(t, "list", planner), "1.1.0")
	assert.Contains(t, kit.Must(t, "list", planner), "1.0.0")
	assert.Contains(t, kit.Must(t, "audit", s.Address, "--limit", "20"), "by retention: rule 2")

	removal := asked[api.RemovalList](t, s, http.MethodGet, fmt.Sprint("removals?run=", id), "").Removals[0].ID
	kit.Must(t, "removal", "undo", s.Address, strconv.FormatInt(removal, 10))
	pulled := t.TempDir()
	kit.Must(t, "pull", planner+":1.1.0", pulled)

	// A change that takes less acts at once, and a wider one waits again.
	kit.Must(t, "retention", "set", planner, written(t, "- keep: \"*:1.1.0\"\n- keep: \"*:<release>\"\n  newest: 10\n- drop: \"*:<release>\"\n  because: ten are enough\n"), "--reason", "it is wanted")
	assert.NotContains(t, kit.Run(t, "retention", "show", planner).Err, "It waits")
	kit.Must(t, "retention", "set", s.Address+"/timetable", written(t, "- drop: \"*\"\n"), "--reason", "a mistake")
	assert.Contains(t, kit.Run(t, "retention", "show", s.Address+"/timetable").Err, "It waits")

	for words, says := range map[string]string{
		"- drop: \"*\"\n  newest: many\n": "line 2, in rule 1: newest: \"many\" is no count",
		"- drop: \"*\"\n  use: x\n":       "a rule that uses another list says nothing else",
		"- seal: \"*\"\n":                 "possible are keep, drop",
	} {
		refused := kit.Run(t, "retention", "set", planner, written(t, words), "--reason", "x")
		assert.Equal(t, 2, refused.Code)
		assert.Contains(t, refused.Err, says)
	}
}

// A list that would take more than a fifth waits once more, though it acts already; a keep
// that goes away protects for as long as that waits.
func TestRulesThatTakeMuchWaitOnceMore(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir(), "--short-windows", "--grace", "1s", "--rule-wait", "2s", "--retention-at", "never", "--sweep-at", "never")
	for i := range 6 {
		push(t, s, "berths/seatmap", fmt.Sprintf("c-%07d", i), kit.Bytes(uint64(i), 900))
	}
	place := s.Address + "/berths"
	kit.Must(t, "retention", "set", place, written(t, "- drop: \"*:<commit>\"\n"), "--reason", "x")
	until(t, "the list acts", func() bool {
		return !asked[api.RuleList](t, s, http.MethodGet, "rules?kind=retention&place=berths", "").Waits
	})
	done := run(t, s, "retention/run", `{}`)
	require.Len(t, done.Retention.Waits, 1)
	assert.Equal(t, []int{6, 6}, []int{done.Retention.Waits[0].Takes, done.Retention.Waits[0].OutOf})
	assert.Zero(t, done.Retention.Tags)
	assert.Contains(t, kit.Must(t, "audit", s.Address, "--limit", "5"), "would take 6 of the 6 tags")
	until(t, "it waited once more", func() bool { return run(t, s, "retention/run", `{}`).Retention.Tags == 6 })

	push(t, s, "berths/seatmap", "c-0000010", kit.Bytes(10, 900))
	repository := s.Address + "/berths/seatmap"
	kit.Must(t, "retention", "set", repository, written(t, "- keep: \"*:c-0000010\"\n"), "--reason", "x")
	kit.Must(t, "retention", "remove", repository, "--reason", "x", "--yes")
	assert.Zero(t, run(t, s, "retention/run", `{}`).Retention.Tags, "what was kept a moment ago is not gone at once")
	until(t, "the change acts", func() bool { return run(t, s, "retention/run", `{}`).Retention.Tags == 1 })
}

// What runs stays, by its name or its digest, with the indexes around it; a list that shrinks
// by half is refused, and one that nobody refreshes keeps everything.
func TestWhatIsInUseStays(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir(), "--short-windows", "--grace", "1s", "--rule-wait", "1h", "--retention-at", "never", "--sweep-at", "never")
	kit.MakeAccount(t, s, "cluster-north")
	// It sees what runs on its nodes: of anything else nobody tells it whether it is here.
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/namespaces", `{"name":"signals"}`)
	kit.AsAdmin(t, s, http.MethodPut, "/api/v1/roles", `{"place":"signals","role":"reader","account":"cluster-north"}`)
	var images []kit.Image
	for i := range 5 {
		images = append(images, push(t, s, "signals/relay", fmt.Sprintf("1.%d.0", i), kit.Bytes(uint64(i), 900)))
	}
	child := push(t, s, "signals/relay", "amd64", kit.Bytes(20, 900)).Manifest
	kit.PutManifest(t, s, "signals/relay", "2.0.0", "application/vnd.oci.image.index.v1+json", map[string]any{
		"schemaVersion": 2, "mediaType": "application/vnd.oci.image.index.v1+json", "manifests": []any{map[string]any{"mediaType": child.MediaType, "digest": child.Digest, "size": child.Size}},
	})
	kit.Must(t, "retention", "set", s.Address+"/signals", written(t, "- keep: \"*\"\n  in_use: cluster-north\n- drop: \"*\"\n"), "--reason", "x")
	assert.Contains(t, kit.Run(t, "retention", "show", s.Address+"/signals").Err, "There is no list cluster-north")
	kit.Must(t, "retention", "change", s.Address+"/signals", "--at-once", "--reason", "x", "--yes")
	assert.Zero(t, run(t, s, "retention/run", `{}`).Retention.Tags, "a list that is not there keeps all")

	kit.Must(t, "in-use", "make", s.Address, "cluster-north", "--keeper", "cluster-north", "--fresh-for", "1h")
	pods := fmt.Sprintf(`{"kind":"List","items":[{"spec":{"containers":[{"image":"%[1]s/signals/relay:1.0.0"}]},"status":{"containerStatuses":[{"imageID":"docker-pullable://%[1]s/signals/relay@%[2]s"}]}},
		{"spec":{"initContainers":[{"image":"partner.example/printer:1"}]},"status":{"initContainerStatuses":[{"imageID":"partner.example/printer@%[3]s"}]}},
		{"spec":{"containers":[{"image":"%[1]s/signals/relay:1.1.0"}]}}]}`, s.Address, child.Digest, "sha256:"+strings.Repeat("0", 64))
	refused := kit.RunWith(t, "", "in-use", "set", s.Address, "cluster-north")
	assert.Contains(t, refused.Err, "nothing would be in use")
	kit.LogInAs(t, s.Address, "cluster-north", kit.MemberPassword)
	out := kit.RunWith(t, pods, "in-use", "set", s.Address, "cluster-north")
	require.Zero(t, out.Code, out.Err)
	assert.Contains(t, out.Out, "5 references are in use")
	assert.Contains(t, kit.RunWith(t, s.Address+"/signals/relay:1.0.0\n", "in-use", "set", s.Address, "cluster-north").Err, "would have 1 references, and had 5")
	require.Zero(t, kit.RunWith(t, "signals/relay:1.0.0\nsignals/relay@"+child.Digest.String(), "in-use", "set", s.Address, "cluster-north", "--shrink").Code)
	assert.NotZero(t, kit.Run(t, "in-use", "make", s.Address, "another").Code, "who keeps one makes none")
	missing := kit.Must(t, "in-use", "show", s.Address, "cluster-north", "--absent", "--references")
	assert.Empty(t, missing, "what left the list is not missing")

	kit.LogInAs(t, s.Address, "admin", kit.Password)
	run(t, s, "retention/run", `{}`)
	kit.Must(t, "retention", "change", s.Address+"/signals", "--at-once", "--reason", "x", "--yes")
	run(t, s, "retention/run", `{}`)
	left := kit.Must(t, "list", s.Address+"/signals/relay", "--output", "json")
	for tag, there := range map[string]bool{"1.0.0": true, "1.1.0": true, "1.2.0": false, "1.4.0": false, "2.0.0": true, "amd64": true} {
		assert.Equal(t, there, strings.Contains(left, `"`+tag+`"`), "%s: what left the list counts for 30 days more", tag)
	}
	assert.NotEmpty(t, images)
}

// A run that is killed goes on where it was; rules and pushes at once leave what the rules
// keep, and nothing goes twice.
func TestRulesActBesidePushesAndOverAKill(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir(), "--short-windows", "--grace", "1s", "--rule-wait", "1h", "--retention-at", "never", "--sweep-at", "never")
	image := push(t, s, "rolling/telemetry", "latest", kit.Bytes(1, 900))
	for batch := range 3 {
		var changes []string
		for i := range 100 {
			changes = append(changes, fmt.Sprintf(`{"act":"add","tag":"c-%07d","to":%q}`, 100*batch+i, image.Manifest.Digest))
		}
		kit.AsAdmin(t, s, http.MethodPost, "/api/v1/tags?repository=rolling/telemetry", `{"changes":[`+strings.Join(changes, ",")+`]}`)
	}
	place := s.Address + "/rolling"
	kit.Must(t, "retention", "set", place, written(t, "- keep: \"*:latest\"\n- drop: \"*:<commit>\"\n"), "--reason", "x")
	kit.Must(t, "retention", "change", place, "--at-once", "--reason", "x", "--yes")
	require.Len(t, run(t, s, "retention/run", "{}").Retention.Waits, 1)
	kit.Must(t, "retention", "change", place, "--at-once", "--reason", "x", "--yes")

	begun := asked[api.Asked](t, s, http.MethodPost, "retention/run", "{}")
	count := func() int {
		return len(asked[api.RemovalList](t, s, http.MethodGet, "removals?limit=1000", "").Removals)
	}
	until(t, "some went", func() bool { return count() > 10 })
	s.Kill()
	s.Restart()
	// Pushes go on while it does.
	pushed := 0
	until(t, "the run ends", func() bool {
		push(t, s, "rolling/telemetry", fmt.Sprintf("2.%d.0", pushed), kit.Bytes(uint64(100+pushed), 500))
		pushed++
		return asked[api.Run](t, s, http.MethodGet, fmt.Sprintf("runs/%d", begun.Run.ID), "").EndedAt != nil
	}, s.Log)
	until(t, "all that is to go went", func() bool {
		run(t, s, "retention/run", "{}")
		return !strings.Contains(kit.Must(t, "list", s.Address+"/rolling/telemetry", "--output", "json"), `"c-0`)
	})
	assert.Equal(t, 300, count(), "each went once")
	left := kit.Must(t, "list", s.Address+"/rolling/telemetry", "--output", "json")
	assert.Contains(t, left, `"latest"`)
	for i := range pushed {
		assert.Contains(t, left, fmt.Sprintf(`"2.%d.0"`, i))
	}
}
