package rule

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestReplicationRulesSayWhatTravelsUnderWhichName(t *testing.T) {
	all, err := ReadReplications([]byte(`replication:
  - name: depot
    copy: ["signals/*:<version>", base/os]
    except: "*:night"
    to: tarn
    as: copies/{repository}:hq-{tag}
    hours: 22:00-05:30
    rate: 4MiB
    removals: remove
    referrers: false
`))
	require.NoError(t, err)
	r := all[0]
	assert.True(t, r.Means(Name{"signals/relay", "1.2.0"}))
	assert.False(t, r.Means(Name{"signals/relay", "night"}))
	assert.True(t, r.Means(Name{"base/os", "stable"}))
	assert.False(t, r.Means(Name{"base/os", "night"}))
	name, tag, err := r.Target(Name{"signals/relay", "1.2.0"})
	require.NoError(t, err)
	assert.Equal(t, "copies/relay:hq-1.2.0", string(name)+":"+string(tag))
	back, could := r.Source("hq-1.2.0")
	assert.True(t, could)
	assert.EqualValues(t, "1.2.0", back)
	_, could = r.Source("1.2.0")
	assert.False(t, could)
	at := func(hour, minute int) time.Time { return time.Date(2026, 3, 1, hour, minute, 0, 0, time.UTC) }
	assert.Equal(t, []bool{true, true, false, false}, []bool{r.Open(at(22, 0)), r.Open(at(5, 29)), r.Open(at(5, 30)), r.Open(at(12, 0))})
	assert.EqualValues(t, 4<<20, r.BytesASecond())
	again, err := ReadReplications([]byte(YAML([]ReplicationText{r.ReplicationText})))
	require.NoError(t, err)
	assert.Equal(t, r.ReplicationText, again[0].ReplicationText, "it is written as it is read")

	for as, back := range map[string]string{"hq/{namespace}/{repository}": "signals/relay/eu", "{repository}-of-{namespace}:x-{tag}": "", "": "hq/signals/relay/eu", "copies/{repository}": ""} {
		r, err := ReadReplication(ReplicationText{Copy: []string{"*"}, To: "tarn", As: as})
		require.NoError(t, err, as)
		name, could := r.SourceRepository("hq/signals/relay/eu")
		assert.Equal(t, back, string(name), as)
		assert.Equal(t, back != "", could, as)
	}

	root, err := ReadReplication(ReplicationText{Copy: []string{"base"}, To: "tarn"})
	require.NoError(t, err)
	name, _, err = root.Target(Name{"base", "1"})
	require.NoError(t, err)
	assert.EqualValues(t, "base", name, "a namespace's own repository keeps its name")
	for text, says := range map[string]string{
		"- name: a\n  copy: x":                                     "line 1, in rule 1: name one peer",
		"- name: a\n  to: b":                                       "say what is copied",
		"- name: a\n  copy: \"x:<none>\"\n  to: b":                 "travel with what names them",
		"- name: a\n  copy: x\n  to: b\n  as: x:1":                 "as:",
		"- name: a\n  copy: x\n  to: b\n  as: x:{version}":         "as:",
		"- name: a\n  copy: x\n  from: b\n  when: pushed":          "a peer does not tell",
		"- name: a\n  copy: x\n  to: b\n  rate: 1KiB":              "at least 16KiB",
		"- name: a\n  copy: x\n  to: b\n  hours: 25:00-1":          "in UTC",
		"- name: a\n  copy: x\n  to: b\n  conflicts: mine":         "report, ours or theirs",
		"- name: a\n  copy: x\n  to: b\n  speed: 4":                "line 4, in rule 1: \"speed\" is nothing",
		"- copy: x\n  to: b":                                       "give the rule a name",
		"- {name: a, copy: x, to: b}\n- {name: a, copy: y, to: b}": "two rules of the name",
	} {
		_, err := ReadReplications([]byte(text))
		assert.ErrorContains(t, err, says, text)
	}
}

// That two patterns meet is what tries of short texts say.
func TestPatternsOverlapWhereATextIsWhatBothSay(t *testing.T) {
	texts := []string{""}
	for from := 0; len(texts) < 1000; from++ {
		texts = append(texts, texts[from]+"a", texts[from]+"b")
	}
	rapid.Check(t, func(t *rapid.T) {
		glob := rapid.StringMatching(`[ab*]{0,4}`)
		a, b := glob.Draw(t, "a"), glob.Draw(t, "b")
		meet := false
		for _, text := range texts {
			meet = meet || MatchText(a, text) && MatchText(b, text)
		}
		if globsMeet(a, b) != meet {
			t.Fatalf("%q and %q meet: %t", a, b, meet)
		}
	})
}
