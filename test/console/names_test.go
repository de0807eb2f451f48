package console

import (
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/browser"
	"warthesis/internal/kit"
)

// submit presses the button of a dialog once it can be pressed.
func submit(t *testing.T, page *browser.Page) {
	t.Helper()
	require.NoError(t, page.Click(`[role=dialog] button[type=submit]:not([disabled])`))
}

// gone waits until the page does not show a text.
func gone(t *testing.T, page *browser.Page, text string) {
	t.Helper()
	require.NoError(t, page.Wait("!document.body.innerText.includes("+quoted(text)+")"))
}

const firstRow = `document.querySelector('[role=row][data-index="0"]').innerText`

func TestTagsAreOrderedFilteredAndChanged(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, sampleWorld(t))
	page := openBrowser(t, s)
	require.NoError(t, page.Go(s.URL("/r/signals/relay?only=%3Cversion%3E")))
	says(t, page, "4.0.1")
	assert.NotContains(t, evaluate[string](t, page, "document.querySelector('[role=table]').innerText"), "stable")
	require.NoError(t, page.Click(`[aria-label="Why: 4.2.0 is sealed"]`))
	says(t, page, "signal boxes run what a tag says")
	evaluate[bool](t, page, `document.querySelector('[role=dialog] a').click() || true`)
	require.NoError(t, page.Wait(`location.search === "?place=signals"`))

	require.NoError(t, page.Go(s.URL("/r/timetable/planner")))
	says(t, page, "2.3.1")
	press(t, page, "newest version")
	require.NoError(t, page.Wait(firstRow+".startsWith('2.4.1')"))
	require.NoError(t, page.Wait(`location.search === "?sort=version"`))

	// Tags that are chosen go as one, and come back as one.
	for _, tag := range []string{"2.1.0", "2.1.1"} {
		require.NoError(t, page.Click(`[aria-label="Choose `+tag+`"]`))
	}
	says(t, page, "2 tags are chosen")
	press(t, page, "Remove them")
	submit(t, page)
	says(t, page, "Removed 2.1.1, 2.1.0 from timetable/planner. It can come back for about 14 days.")
	require.NoError(t, page.Wait(`!document.querySelector('[aria-label="Choose 2.1.0"]')`))
	press(t, page, "Undo")
	require.NoError(t, page.Wait(`document.querySelector('[aria-label="Choose 2.1.0"]') !== null`))
	gone(t, page, "It can come back")

	// One is renamed from its menu, by the keys as well as by the mouse.
	require.NoError(t, page.Click(`[aria-label="more of 2.2.0"]`))
	require.NoError(t, page.Wait(`document.querySelector('[role=menu]') !== null`))
	evaluate[bool](t, page, `[...document.querySelectorAll('[role=menuitem]')].find(i => i.innerText === 'Rename it').click() || true`)
	require.NoError(t, page.WaitFor(`[role=dialog] input`))
	typeInto(t, page, "New name", "2.2.0-old")
	submit(t, page)
	require.NoError(t, page.Wait(`document.querySelector('[aria-label="more of 2.2.0-old"]') !== null`))
	// A sealed one says why it stays.
	require.NoError(t, page.Click(`[aria-label="Choose 2.4.1"]`))
	press(t, page, "Remove them")
	says(t, page, "is sealed and cannot go: teodor sealed it by hand")
}

func TestATagThatWasMovedByMistakeIsPutBack(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, sampleWorld(t))
	page := openBrowser(t, s)
	require.NoError(t, page.Go(s.URL("/r/timetable/board?show=log&tag=stable")))
	says(t, page, "What stable pointed to")
	require.NoError(t, page.Click(`[aria-label^="Put back stable"]`))
	says(t, page, "that image stays")
	submit(t, page)
	says(t, page, "by hand by admin")
	assert.Equal(t, kit.Must(t, "identify", s.Address+"/timetable/board:1.9.0"), kit.Must(t, "identify", s.Address+"/timetable/board:stable"))
}

func TestRulesAreTriedBeforeTheyAreSet(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, sampleWorld(t))
	page := openBrowser(t, s)
	require.NoError(t, page.Go(s.URL("/rules?place=berths")))
	says(t, page, "No rules yet")
	says(t, page, "They speak of no repository")
	typeInto(t, page, "Try them on a name", "berths/seatmap:1.2.0")
	require.NoError(t, page.Click(`[aria-label="What they would do"] button[type=submit]:not([disabled]), [aria-label="What they do now"] button[type=submit]:not([disabled])`))
	says(t, page, "1.2.0 would be sealed")
	says(t, page, "it speaks of other tags")
	says(t, page, "They speak of 3 repositories")
	typeInto(t, page, "Why", "as elsewhere")
	evaluate[bool](t, page, `(() => { const a = document.querySelector('textarea'); Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, 'value').set.call(a, '- seal: "*:<release>"\n'); a.dispatchEvent(new Event('input', {bubbles: true})); return true })()`)
	press(t, page, "Set them")
	says(t, page, "The rules, in the order")
	says(t, page, "by admin: as elsewhere")
	answer, raw := s.Do(http.MethodGet, "/api/v1/rules?place=berths", nil)
	require.Equal(t, http.StatusOK, answer.StatusCode)
	assert.Contains(t, string(raw), `seal: \"*:<release>\"`)
	// What is wrong is said with its line.
	evaluate[bool](t, page, `(() => { const a = document.querySelector('textarea'); Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, 'value').set.call(a, '- sael: x\n'); a.dispatchEvent(new Event('input', {bubbles: true})); return true })()`)
	press(t, page, "See what they would do")
	says(t, page, "line 1, in rule 1")
}

func TestWhatWasRemovedComesBack(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, sampleWorld(t))
	page := openBrowser(t, s)
	require.NoError(t, page.Go(s.URL("/removed?in=berths")))
	says(t, page, "the trial is over")
	press(t, page, "what went")
	says(t, page, "for about 1")
	// A name that is taken meanwhile gets another.
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/tags?repository=berths/checkout", `{"changes":[{"act":"add","tag":"1.4.0","to":"1.6.0"}]}`)
	require.NoError(t, page.Click(`[aria-label="Undo the removal of tags 1.4.0, 1.4.1"]`))
	says(t, page, "Another name for 1.4.0")
	submit(t, page)
	gone(t, page, "sold beds twice")
	assert.True(t, strings.HasPrefix(kit.Must(t, "identify", s.Address+"/berths/checkout:1.4.0-restored"), "sha256:"))

	// An image goes with its parts, and is undone from the bar.
	require.NoError(t, page.Go(s.URL("/r/timetable/board@:1.7.0")))
	says(t, page, "Remove the image")
	press(t, page, "Remove the image")
	says(t, page, "1 image goes, with its tag 1.7.0")
	require.NoError(t, page.Click(`[role=dialog] input[type=checkbox]`))
	says(t, page, "3 images go")
	submit(t, page)
	require.NoError(t, page.Wait(`location.pathname === "/r/timetable/board"`))
	says(t, page, "Removed the image")
	press(t, page, "Undo")
	require.NoError(t, page.Wait(`document.querySelector('[aria-label="Choose 1.7.0"]') !== null`))

	// Seals keep a place, until an admin says why not.
	require.NoError(t, page.Go(s.URL("/r/signals/relay?show=settings")))
	require.NoError(t, page.WaitFor(`[aria-label="Remove the repository signals/relay"]`))
	require.NoError(t, page.Click(`[aria-label="Remove the repository signals/relay"]`))
	says(t, page, "sealed: signals/relay:4.0.0")
	typeInto(t, page, "Why it goes although tags are sealed", "the relay was taken down")
	submit(t, page)
	says(t, page, "Removed the repository signals/relay.")
}
