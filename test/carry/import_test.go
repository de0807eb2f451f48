package carry

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/api"
	"warthesis/internal/flow/bring"
	"warthesis/internal/kit"
)

var inside = []string{"--inside-networks", "127.0.0.0/8"}

// brought is the report of an import.
func brought(t *testing.T, args ...string) (report bring.Report, result kit.Result) {
	result = kit.Run(t, append(args, "--output", "json")...)
	var facts struct{ Report bring.Report }
	require.NoError(t, json.Unmarshal([]byte(result.Out), &facts), result.Out+result.Err)
	return facts.Report, result
}

func TestAnImageIsBroughtInWithAllThatBelongsToIt(t *testing.T) {
	t.Parallel()
	f, s := kit.StartForeign(t, nil), kit.Start(t, t.TempDir(), inside...)
	images, _ := release(t, f, 1, 1)
	second := kit.NewImage(t, kit.Bytes(1, 1<<20), kit.Bytes(77, 100))
	f.Put("rolling/part-00", "1.1.0", second)
	kit.Must(t, "peer", "make", s.Address, "partner", f.Address, "--plain-http", "--repository", "rolling/part-00")
	// What is there is shown first, and nothing comes.
	report, _ := brought(t, "import", s.Address, "partner/rolling/part-00", "outside/part", "--preview")
	assert.Equal(t, int64(2), report.Totals.Lacks)
	assert.Equal(t, []bring.Namespace{{Name: "outside", Repositories: 1}}, report.Namespaces)
	assert.Empty(t, tagOf(s, "outside/part", "1.0.0"))
	report, result := brought(t, "import", s.Address, "partner/rolling/part-00", "outside/part")
	assert.Zero(t, result.Code, result.Err)
	assert.True(t, report.Equal)
	assert.Equal(t, images[0].Manifest.Digest.String(), tagOf(s, "outside/part", "1.0.0"))
	assert.Equal(t, second.Manifest.Digest.String(), tagOf(s, "outside/part", "1.1.0"))
	// A tag that somebody moved here stays, one that moved there comes; the rest costs nothing.
	kit.Must(t, "tag", "move", s.Address+"/outside/part:1.1.0", "1.0.0")
	third := kit.NewImage(t, kit.Bytes(78, 100))
	f.Put("rolling/part-00", "1.0.0", third)
	f.Asked()
	report, _ = brought(t, "imports", "run", s.Address, "partner-rolling-part-00")
	assert.Equal(t, int64(1), report.Totals.Ours)
	assert.Equal(t, int64(1), report.Totals.Brought)
	assert.False(t, report.Equal)
	assert.Equal(t, third.Manifest.Digest.String(), tagOf(s, "outside/part", "1.0.0"))
	assert.Equal(t, images[0].Manifest.Digest.String(), tagOf(s, "outside/part", "1.1.0"))
	// A registry that lists nothing cannot be brought in whole, but by a list.
	whole := kit.Run(t, "import", s.Address, "partner")
	assert.Equal(t, 1, whole.Code)
	assert.Contains(t, whole.Err, "lists no repositories", whole.Err)
	assert.Equal(t, 1, kit.Run(t, "peer", "remove", s.Address, "partner", "--yes").Code)
}

// One that somebody stops holds nothing open any longer, and can be run again.
func TestAnImportThatIsStoppedHoldsNothing(t *testing.T) {
	t.Parallel()
	f, s := kit.StartForeign(t, nil), kit.Start(t, t.TempDir(), inside...)
	release(t, f, 1, 1)
	kit.Must(t, "peer", "make", s.Address, "partner", f.Address, "--plain-http", "--repository", "rolling/part-00")
	let := make(chan struct{})
	f.Wrong(func(_ http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodGet && strings.Contains(r.URL.Path, "/blobs/") {
			select {
			case <-let:
			case <-r.Context().Done():
			}
		}
		return false
	})
	kit.Must(t, "import", s.Address, "partner/rolling/part-00", "outside/part", "--no-wait")
	arrival := func() (a api.Arrival) {
		var list api.ArrivalList
		require.NoError(t, json.Unmarshal(kit.AsAdmin(t, s, http.MethodGet, "/api/v1/arrivals", ""), &list))
		if len(list.Arrivals) > 0 {
			a = list.Arrivals[0]
		}
		return a
	}
	kit.Eventually(t, "it is under way", func() bool { return arrival().State == "going" })
	var is api.Import
	require.NoError(t, json.Unmarshal(kit.AsAdmin(t, s, http.MethodGet, "/api/v1/imports/partner-rolling-part-00", ""), &is))
	kit.Must(t, "runs", "stop", s.Address, fmt.Sprint(is.Run))
	kit.Eventually(t, "it holds nothing", func() bool { return arrival().State == "stopped" }, s.Log)
	assert.Zero(t, arrival().HeldFor)
	close(let)
	report, _ := brought(t, "imports", "run", s.Address, "partner-rolling-part-00")
	assert.True(t, report.Equal)
}

// FLOW_REPOSITORIES says how many repositories the registry has.
func TestAWholeRegistryMovesOver(t *testing.T) {
	t.Parallel()
	of := many("FLOW_REPOSITORIES", 25)
	old, s := kit.Start(t, t.TempDir(), inside...), kit.Start(t, t.TempDir(), inside...)
	image := kit.NewImage(t, kit.Bytes(1, 100_000))
	name := func(i int) string { return fmt.Sprintf("space-%d/app-%04d", i%5, i) }
	layout := image.Layout(t)
	for i := range of {
		kit.Must(t, "push", layout, old.Address+"/"+name(i)+":1.0.0", old.Address+"/"+name(i)+":stable")
	}
	made := kit.RunWith(t, kit.Password+"\n", "peer", "make", s.Address, "old-registry", old.Address, "--account", kit.Admin, "--from-stdin", "--plain-http")
	require.Zero(t, made.Code, made.Err)
	// The first pass is cut by a kill in its middle, and goes on after the start.
	kit.Must(t, "import", s.Address, "old-registry", "--name", "move-over", "--no-wait")
	// People go on pushing to the old one meanwhile.
	next := kit.NewImage(t, kit.Bytes(2, 1000)).Layout(t)
	kit.Must(t, "push", next, old.Address+"/"+name(1)+":stable")
	s.Kill()
	s.Restart()
	kit.Must(t, "push", next, old.Address+"/"+name(2)+":stable")
	state := func() (is api.Import) {
		require.NoError(t, json.Unmarshal(kit.AsAdmin(t, s, http.MethodGet, "/api/v1/imports/move-over", ""), &is))
		return is
	}
	kit.Eventually(t, "the first pass ends", func() bool { return state().State == "done" }, s.Log)
	kit.Must(t, "push", next, old.Address+"/"+name(3)+":stable")
	kit.Must(t, "push", next, old.Address+"/space-9/new:1.0.0")
	report, result := brought(t, "imports", "run", s.Address, "move-over")
	assert.Zero(t, result.Code, result.Err)
	assert.GreaterOrEqual(t, report.Totals.Brought, int64(2), "what changed since")
	assert.LessOrEqual(t, report.Totals.Brought, int64(4), "and nothing else")
	assert.True(t, report.Equal)
	assert.Equal(t, of+1, report.Totals.Repositories)
	assert.False(t, report.ComparedFrom.IsZero())
	assert.WithinDuration(t, time.Now(), report.ComparedUntil, time.Hour)
	assert.Contains(t, report.Says, "both sides are equal by digest")
	for i := range of {
		assert.Equal(t, tagOf(old, name(i), "stable"), tagOf(s, name(i), "stable"))
	}
	// The last look says so again, and moves nothing.
	shown := kit.Must(t, "imports", "run", s.Address, "move-over", "--preview")
	assert.Contains(t, shown, "Both sides are equal by digest")
	assert.Contains(t, kit.Must(t, "arrival", "list", s.Address), "move-over")
}
