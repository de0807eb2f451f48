package console

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/browser"
	"warthesis/internal/kit"
)

func evaluate[T any](t *testing.T, page *browser.Page, expression string) T {
	t.Helper()
	found, err := browser.Evaluate[T](page, expression)
	require.NoError(t, err)
	return found
}

// overflowing are the elements whose content leaves them, but for those that scroll.
const overflowing = `[...document.querySelectorAll('main, main *')].filter(e => e.clientWidth > 0 && e.scrollWidth > e.clientWidth + 4 &&
	!['inline', 'contents'].includes(getComputedStyle(e).display) && getComputedStyle(e).textOverflow !== 'ellipsis' &&
	!['CODE', 'PRE', 'INPUT', 'TEXTAREA'].includes(e.tagName) && !/MuiTabs|MuiInput|MuiOutlined|MuiSelect/.test(String(e.className))).map(e => e.outerHTML.slice(0, 120))`

func TestNothingLeavesItsPlaceAtAnyWidth(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, sampleWorld(t))
	page := openBrowser(t, s)
	for _, width := range []int64{900, 1280} {
		require.NoError(t, page.Size(width, 800))
		for place, sign := range map[string]string{"/": "berths/pricing", "/r/timetable/planner": "a3716ccaeb68", "/r/timetable/planner?show=members": "ci-timetable", "/r/timetable/planner:2.4.1": "copy settings",
			"/find?q=planner": "Repository", "/n/berths?show=use": "Build pipeline", "/n/berths?show=members": "ci-berths", "/access": "berths", "/access/accounts?open=ci-berths": "build pipeline",
			"/rules?place=signals": "signal boxes run", "/rules?list=moving-names": "used by", "/removed": "sold beds twice", "/storage": "the file has other bytes", "/storage?place=timetable/planner": "What can be freed", "/retention?place=timetable": "go within 14 days", "/in-use?list=cluster-north": "partner.example", "/flow": "talks to no other one", "/service": "would go", "/r/timetable/board?show=log&tag=stable": "Put back",
			"/access/registry": "Identity rules", "/activity": "push", "/me": "My tokens"} {
			require.NoError(t, page.Go(s.URL(place)))
			says(t, page, sign)
			assert.Empty(t, evaluate[[]string](t, page, overflowing), "%s at %d", place, width)
		}
		require.NoError(t, page.Go(s.URL("/r/timetable/planner")))
		says(t, page, "Build pipeline")
		require.NoError(t, page.Click(`[role=tablist][aria-label=Tool] [role=tab]:nth-child(4)`))
		says(t, page, "printenv REGISTRY_TOKEN")
		assert.Empty(t, evaluate[[]string](t, page, overflowing), "the pipeline's commands at %d", width)
		assert.True(t, evaluate[bool](t, page, `[...document.querySelectorAll('button')].filter(b => b.innerText === 'Copy').every(b => b.getBoundingClientRect().right < innerWidth - 24)`))
	}
}

func TestOnePushIsOneRowAndShowsWhatItBrought(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, sampleWorld(t))
	page := openBrowser(t, s)
	require.NoError(t, page.Go(s.URL("/activity?repository=timetable/board")))
	says(t, page, "fair · 3 manifests")
	rows := `document.querySelectorAll('[role=row][data-index]').length`
	before := evaluate[int](t, page, rows)
	toggle := func() {
		evaluate[bool](t, page, `document.querySelector('[role=row][data-index="0"]').focus() || true`)
		require.NoError(t, page.Keys("\r"))
	}
	toggle()
	says(t, page, "manifest pushed")
	require.NoError(t, page.Wait(fmt.Sprintf("%s > %d", rows, before)))
	toggle()
	require.NoError(t, page.Wait("!document.body.innerText.includes('manifest pushed')"))
}

func TestARepositoryIsMadeAndShowsItsCommands(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, sampleWorld(t))
	page := openBrowser(t, s)
	require.NoError(t, page.Go(s.URL("/n/berths")))
	says(t, page, "Make a repository")
	press(t, page, "Make a repository")
	require.NoError(t, page.WaitFor(`[role=dialog] input`))
	typeInto(t, page, "Name", "berths/blankets")
	require.NoError(t, page.Click(`[role=dialog] button[type=submit]`))
	says(t, page, "warthesis push IMAGE "+s.Address+"/berths/blankets:TAG")
	require.NoError(t, page.Click(`[role=tablist][aria-label=Tool] [role=tab]:nth-child(3)`))
	says(t, page, "podman push "+s.Address+"/berths/blankets:TAG")
	says(t, page, "insecure = true")

	// What was chosen is remembered, and so is that it was folded away.
	require.NoError(t, page.Click(`[aria-label^="Fold:"]`))
	require.NoError(t, page.Go(s.URL("/r/berths/seatmap")))
	says(t, page, "c-c713a92")
	assert.NotContains(t, evaluate[string](t, page, "document.body.innerText"), "podman push")
	require.NoError(t, page.Click(`[aria-label^="Show:"]`))
	says(t, page, "podman push")

	// A secret stands beside the commands, and in none of them.
	press(t, page, "Make a token for these commands")
	says(t, page, "This is a new token")
	for i := 1; i <= 5; i++ {
		require.NoError(t, page.Click(`[role=tablist][aria-label=Tool] [role=tab]:nth-child(`+fmt.Sprint(i)+`)`))
		assert.Empty(t, evaluate[[]string](t, page, `[...document.querySelectorAll('code')].map(c => c.innerText).filter(c => c.includes('warthesis_') && c.includes(' '))`))
	}

	require.NoError(t, page.Go(s.URL("/r/berths/blankets?show=settings")))
	says(t, page, "Who may pull")
	require.NoError(t, page.Click(`[aria-label="Remove the repository berths/blankets"]`))
	require.NoError(t, page.Click(`[role=dialog] button[type=submit]:not([disabled])`))
	require.NoError(t, page.Wait(`location.pathname === "/"`))
	require.NoError(t, page.Go(s.URL("/r/berths/blankets")))
	says(t, page, "Restore it, if it was removed")
	press(t, page, "Restore it, if it was removed")
	says(t, page, "No tags yet")
}

func TestTheRegistrysOwnPlaceChangesWhatIsTrueEverywhere(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, sampleWorld(t))
	page := openBrowser(t, s)
	require.NoError(t, page.Go(s.URL("/access/registry")))
	says(t, page, "Every person may make namespaces")
	require.NoError(t, page.Click(`main input[type=checkbox]`))
	kit.Eventually(t, "the setting is changed", func() bool {
		_, raw := s.Do(http.MethodGet, "/api/v1/settings", nil)
		return strings.Contains(string(raw), `"accounts_make_namespaces":true`)
	})
	press(t, page, "Rotate the key")
	require.NoError(t, page.Click(`[role=dialog] button[type=submit]`))
	says(t, page, "New ones are signed by a new key now")
	says(t, page, "registry admin")
}

func TestATrialSaysSoOnEveryPage(t *testing.T) {
	t.Parallel()
	s := kit.StartTrial(t, t.TempDir())
	page, end, err := browser.Open(t.Context())
	require.NoError(t, err)
	t.Cleanup(end)
	for _, place := range []string{"/", "/access", "/activity", "/r/a/b"} {
		require.NoError(t, page.Go(s.URL(place)))
		says(t, page, "This is a trial")
	}
}
