package console

import (
	"context"
	"encoding/json"
	"net/http"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/api"
	"warthesis/internal/browser"
	"warthesis/internal/demo"
	"warthesis/internal/kit"
)

// settled holds once a page asks nothing more by itself for a quarter of a second.
const settled = `new Promise(done => {
	let [asked, still] = [-1, 0]
	const look = () => {
		const now = performance.getEntriesByType("resource").length
		const loading = [...document.querySelectorAll("[role=status]")].some(e => e.textContent.startsWith("Loading"))
		still = now === asked && !loading ? still + 1 : 0
		asked = now
		if (still === 5) done(true); else setTimeout(look, 50)
	}
	look()
})`

// What a page asks by itself when somebody opens it is no attempt of theirs: it leaves no
// refusal in the audit log. Marit owns a namespace, Jun only reads.
func TestOpeningAPageWritesNoRefusals(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, sampleWorld(t))
	pages := []string{
		"/n/base", "/r/base/os", "/activity", "/service", "/rules", "/in-use", "/removed", "/storage", "/flow", "/peer/depot", "/access/registry",
	}
	own := map[string][]string{"marit": {"/n/berths?show=members", "/storage?place=berths", "/activity?namespace=berths"}}
	last := refusals(t, s)[0].ID
	for _, who := range []string{"marit", "jun"} {
		page, end, err := browser.Open(context.Background())
		require.NoError(t, err)
		require.NoError(t, page.SignIn(s.URL(""), who, demo.Password))
		for _, at := range slices.Concat(pages, own[who]) {
			require.NoError(t, page.Go(s.URL(at)))
			require.NoError(t, page.WaitFor("main h1"))
			_, err := browser.Evaluate[bool](page, settled)
			require.NoError(t, err, at)
		}
		end()
	}
	// Refusals are summed up for a while; a stop writes them.
	s.Stop()
	s.Restart()
	for _, l := range refusals(t, s) {
		if l.ID > last {
			assert.Fail(t, "opening a page was refused something", "%s: %s %s: %s", l.Account, l.Repository, l.Subject, l.Detail)
		}
	}
}

func refusals(t *testing.T, s *kit.Service) []api.Line {
	answer, raw := s.Do(http.MethodGet, "/api/v1/audit?limit=1000&verdict=refused", nil)
	require.Equal(t, http.StatusOK, answer.StatusCode, "%s", raw)
	var list api.LineList
	require.NoError(t, json.Unmarshal(raw, &list))
	return list.Lines
}
