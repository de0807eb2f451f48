package replicate

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"warthesis/internal/oci"
)

func TestWhatIsDoneAboutATagHangsOnWhoMovedItSinceBothAgreed(t *testing.T) {
	for says, c := range map[string]struct {
		source, target, agreed oci.Digest
		behind                 bool
		does                   action
		forced                 action
	}{
		"both have the same":                             {"1", "1", "", false, equal, equal},
		"it is new":                                      {"1", "", "", false, send, send},
		"the source moved alone":                         {"2", "1", "1", false, send, send},
		"the target moved alone":                         {"1", "2", "1", false, leave, send},
		"the target removed it":                          {"1", "", "1", false, leave, send},
		"the target removed it, and the source moved":    {"2", "", "1", false, send, send},
		"both moved":                                     {"2", "3", "1", false, clash, send},
		"a copy whose end nobody noted":                  {"3", "2", "1", true, send, send},
		"the first meeting, and the target is behind":    {"2", "1", "", true, send, send},
		"the first meeting, and the target is elsewhere": {"2", "1", "", false, clash, send},
		"the source has it no more":                      {"", "1", "1", false, gone, gone},
	} {
		f := facts{source: c.source, target: c.target, agreed: c.agreed, behind: c.behind}
		assert.Equal(t, c.does, decide(f), says)
		f.forced = true
		assert.Equal(t, c.forced, decide(f), says+", forced")
		if c.does == clash {
			assert.Equal(t, send, decide(facts{source: c.source, target: c.target, agreed: c.agreed, sourceWins: true}), says)
			assert.Equal(t, leave, decide(facts{source: c.source, target: c.target, agreed: c.agreed, targetWins: true}), says)
		}
	}
}
