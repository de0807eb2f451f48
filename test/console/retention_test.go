package console

import (
	"cmp"
	"encoding/json"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/kit"
)

// What a person does who fears to delete the wrong thing: they see what goes while they type,
// why one tag stays, set the rules, and see that these wait.
func TestRetentionIsSeenWhileItIsWritten(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, sampleWorld(t))
	page := openBrowser(t, s)
	require.NoError(t, page.Go(s.URL("/retention?place=timetable")))
	says(t, page, "3 tags and 16 images go within 14 days")
	says(t, page, "timetable/planner:2.1.0")
	says(t, page, "Retention rules act next in about")
	write := func(list string) {
		evaluate[bool](t, page, "(() => { const a = document.querySelector('textarea'); Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, 'value').set.call(a, "+list+"); a.dispatchEvent(new Event('input', {bubbles: true})); return true })()")
	}
	write("`- keep: '*:<release>'\\n  newest: 1\\n- drop: '*:<release>'\\n`")
	says(t, page, "What they would let go")
	says(t, page, "timetable/planner:2.3.1 new")
	write("`- drop: '*:<release>'\\n  newest: few\\n`")
	says(t, page, "line 2, in rule 1: newest: \"few\" is no count")
	typeInto(t, page, "A tag, or an image by its digest", "timetable/planner:2.4.1")
	press(t, page, "Why")
	says(t, page, "in_use: cluster-north")
	write("`- keep: '*:<release>'\\n  newest: 6\\n- drop: '*:<release>'\\n`")
	typeInto(t, page, "Why", "six are enough")
	press(t, page, "Set them")
	says(t, page, "It waits: what it could take that it could not before")
	answer, raw := s.Do(http.MethodGet, "/api/v1/rules?place=timetable&kind=retention", nil)
	require.Equal(t, http.StatusOK, answer.StatusCode)
	assert.Contains(t, string(raw), `"waits":true`)
}

// What holds the space is a picture that one walks into, down to the layers of an image.
func TestTheStorageIsWalkedInto(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, sampleWorld(t))
	page := openBrowser(t, s)
	require.NoError(t, page.Go(s.URL("/storage")))
	says(t, page, "What holds the space")
	require.NoError(t, page.Click(`[aria-label^="timetable "][href]`))
	says(t, page, "Storage of timetable")
	says(t, page, "By a sweep, now")
	require.NoError(t, page.WaitFor(`[aria-label="How it grew"] svg`))
	require.NoError(t, page.Click(`[aria-label^="timetable/planner "][href]`))
	says(t, page, "Storage of timetable/planner")
	require.NoError(t, page.Click(`[aria-label^="2.1.0 "][href]`))
	says(t, page, "What holds the space in this image")
	require.NoError(t, page.WaitFor(`[aria-label*="repositories hold it"]`))
}

// What the page of the sample world says goes is what goes.
func TestRetentionDoesWhatItsPageSays(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, sampleWorld(t))
	var foretold struct {
		Items []struct {
			Day                          int
			Repository, Tag, Digest, Why string
		}
	}
	require.NoError(t, json.Unmarshal(kit.AsAdmin(t, s, http.MethodGet, "/api/v1/retention?limit=20000", ""), &foretold))
	var said, went []string
	for _, i := range foretold.Items {
		if i.Day == 0 {
			said = append(said, i.Repository+" "+cmp.Or(i.Tag, i.Digest)+" "+i.Why)
		}
	}
	require.NotEmpty(t, said)
	kit.Must(t, "retention", "run", s.Address, "--yes")
	var removed struct {
		Removals []struct {
			Run                      int64
			Repository, Name, Reason string
		}
	}
	require.NoError(t, json.Unmarshal(kit.AsAdmin(t, s, http.MethodGet, "/api/v1/removals?limit=1000", ""), &removed))
	for _, r := range removed.Removals {
		if r.Run != 0 {
			went = append(went, r.Repository+" "+r.Name+" "+r.Reason)
		}
	}
	assert.ElementsMatch(t, said, went)
}
