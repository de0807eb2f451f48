package console

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/kit"
)

// What a person wants to know before anything goes: what and why, why something is here,
// what is hurt; then it goes, and the report says so.
func TestTheStorageSaysWhatGoesAndWhyAndASweepTakesIt(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, sampleWorld(t))
	page := openBrowser(t, s)
	require.NoError(t, page.Go(s.URL("/storage")))
	says(t, page, "its restore window is over")
	says(t, page, "no manifest of the repository names it")
	press(t, page, "list each thing")
	says(t, page, "it was removed by the removal 1, and its restore window is over")
	says(t, page, "holding of a blob")
	press(t, page, "what it hurts")
	says(t, page, "rolling/telemetry:5.0.0")
	says(t, page, "no carriage has these beds any more")

	require.NoError(t, page.Go(s.URL("/r/timetable/planner@:2.4.1")))
	says(t, page, "add larkspur-os")
	require.NoError(t, page.Click(`main table [aria-label^="why here"]`))
	says(t, page, "repositories have it; it stays as long as one of them does")
	says(t, page, "tag 2.4.1 (sealed) → index a3716ccaeb68 → manifest")

	require.NoError(t, page.Go(s.URL("/service")))
	says(t, page, "1 is hurt")
	press(t, page, "Sweep now")
	says(t, page, "That cannot come back")
	require.NoError(t, page.Click(`[role=dialog] button[type=submit]`))
	says(t, page, "1 image, 5 holdings, 6 blobs went")
	require.NoError(t, page.Go(s.URL("/storage")))
	says(t, page, "What the next sweep would take")
	press(t, page, "Look now")
	says(t, page, "Nothing would go.")
	assert.True(t, evaluate[bool](t, page, `document.body.innerText.includes('Hurt content (1)')`), "a sweep takes nothing that is hurt and needed")
}
