package console

import (
	"context"
	"encoding/json"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/api"
	"warthesis/internal/browser"
	"warthesis/internal/demo"
	"warthesis/internal/kit"
)

// What a page asks by itself when somebody opens it is no attempt of theirs: it leaves no
// refusal in the audit log.
func TestOpeningAPageWritesNoRefusals(t *testing.T) {
	s := kit.Start(t, sampleWorld(t))
	pages := []string{
		"/", "/access", "/n/berths", "/n/berths?show=members", "/n/base", "/n/base?show=members", "/r/berths/seatmap", "/r/base/os", "/r/base/os:12.4", "/find?q=os", "/me", "/activity", "/service",
		"/rules", "/retention", "/in-use", "/removed", "/storage", "/storage?of=berths", "/flow", "/access/accounts", "/access/groups", "/access/registry",
	}
	for _, who := range []string{"marit", "jun", "ada"} {
		page, end, err := browser.Open(context.Background())
		require.NoError(t, err)
		require.NoError(t, page.SignIn(s.URL(""), who, demo.Password))
		for _, at := range pages {
			before := refusals(t, s, who)
			require.NoError(t, page.Go(s.URL(at)))
			require.NoError(t, page.WaitFor("main h1"))
			// The ledger writes refusals some seconds later.
			time.Sleep(300 * time.Millisecond)
			_ = before
		}
		end()
	}
	s.Stop()
	s.Restart()
	for _, who := range []string{"marit", "jun", "ada"} {
		for _, l := range refusals(t, s, who) {
			assert.Fail(t, "a page was refused something", "%s: %s: %s", who, l.Subject, l.Detail)
		}
	}
}

func refusals(t *testing.T, s *kit.Service, account string) []api.Line {
	answer, raw := s.Do(http.MethodGet, "/api/v1/audit?limit=1000&kind=refused&account="+account, nil)
	require.Equal(t, http.StatusOK, answer.StatusCode, "%s", raw)
	var list api.LineList
	require.NoError(t, json.Unmarshal(raw, &list))
	return list.Lines
}
