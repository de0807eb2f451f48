package rule

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"warthesis/internal/oci"
)

const day = 24 * time.Hour

func retention(t require.TestingT, level Level, of, words string) List[*RetentionFacts] {
	list, err := Retention.Read(level, of, []byte(words))
	require.NoError(t, err, words)
	return list
}

// facts are of a tag that came so many days ago, on an image of its own.
func facts(image int, tag oci.Tag, days int) *RetentionFacts {
	age := time.Duration(days) * day
	return &RetentionFacts{
		Name: Name{Repository: "berths/seatmap", Tag: tag}, Image: image, Order: OrderKey(string(tag)),
		Age: age, Arrival: int64(1000 - days), Pulled: age, Pushed: age, Types: []string{"image"},
	}
}

func verdicts(s *Survey[*RetentionFacts]) (said []string) {
	for i, f := range s.things {
		v := s.Verdict(i)
		said = append(said, fmt.Sprintf("%s %s %d", f.Tag, v.Verb, v.Number))
	}
	return said
}

func TestRetentionDecidesByTheFirstRuleThatMeansATag(t *testing.T) {
	list := retention(t, OfNamespace, "the namespace berths", `
- keep: "*"
  in_use: cluster-north
- keep: "*:<release>"
  newest: 2
- drop: ["*:<release>", "*:<commit>"]
  older_than: 6w
- drop: "*:<none>"
  untagged_for: 5d
`)
	things := []*RetentionFacts{
		facts(0, "1.0.0", 100), facts(1, "1.1.0", 90), facts(2, "1.2.0", 20), facts(2, "v1.2.0", 20), facts(3, "1.10.0", 80), facts(4, "c-0123abc", 42), facts(5, "latest", 400), facts(6, "", 6), facts(7, "", 4),
	}
	things[7].Untagged, things[8].Untagged = 5*day, 5*day-1
	used := func(images ...int) {
		for _, f := range things {
			f.Used = func(string) Use {
				if slices.Contains(images, f.Image) {
					return InUse
				}
				return NotInUse
			}
		}
	}
	used(0)
	want := []string{"1.0.0 keep 1", "1.1.0 drop 3", "1.2.0 keep 2", "v1.2.0 keep 2", "1.10.0 keep 2", "c-0123abc drop 3", "latest  0", " drop 4", "  0"}
	assert.Equal(t, want, verdicts(NewSurvey(things, list)))

	for _, f := range things {
		f.Used = nil
	}
	for i, said := range verdicts(NewSurvey(things, list)) {
		assert.Equal(t, fmt.Sprintf("%s keep 1", things[i].Tag), said, "a list that nobody refreshed keeps all of its pattern")
	}
	drop := retention(t, OfNamespace, "", "- {drop: \"*\", in_use: cluster-north}")
	assert.Equal(t, Verdict{}, NewSurvey(things, drop).Verdict(0), "and drops nothing")

	used()
	answers := NewSurvey(things, list).Explain(1)
	assert.Equal(t, "in_use: cluster-north does not hold", answers[0].Why)
	assert.Equal(t, "newest: 2 does not hold; by version it is number 3 of 4", answers[1].Why)
	assert.True(t, answers[2].Decides)
}

func TestTheNamesOfLabelsThatAListAsksFor(t *testing.T) {
	list := retention(t, OfRepository, "a", "- keep: \"*\"\n  label: [team, stage=prod, x=y=z]\n- drop: \"*\"\n  label: team=*\n")
	assert.Equal(t, []string{"stage", "team", "x"}, list.LabelNames())
}

func TestConditionsOfRetention(t *testing.T) {
	f := facts(0, "night", 10)
	f.Size, f.Types, f.Labels, f.Pulled = 500<<20, []string{"image", oci.MediaTypeImage}, slices.Values([]string{"stage=test", "org.example.line=3"}), 3*day
	for condition, holds := range map[string]bool{
		`last_pull: "< 4d"`: true, `last_pull: "< 3d"`: false, `last_pull: "> 2d"`: true, `last_pull: "> 3d"`: false, `last_push: "> 9d"`: true, `last_push: "<9d"`: false,
		`older_than: 10d`: true, `older_than: 11d`: false, `untagged_for: 1s`: false, `larger_than: 499MiB`: true, `larger_than: 500MiB`: false,
		`type: image`: true, `type: [chart, "application/vnd.oci.*"]`: true, `type: index`: false,
		`label: stage`: true, `label: stage=test`: true, `label: stage=te*`: true, `label: stage=t`: false, `label: [team, org.example.line=3]`: true, `label: line`: false,
	} {
		list := retention(t, OfRegistry, "", "- drop: \"*\"\n  "+condition)
		assert.Equal(t, holds, NewSurvey([]*RetentionFacts{f}, list).Verdict(0).Decided(), condition)
	}
	for words, says := range map[string]string{
		"- drop: \"*\"\n  last_pull: 90d":                  "line 2, in rule 1: last_pull: \"90d\" says neither less nor more",
		"- drop: \"*\"\n  last_pull: \"<> 90d\"":           "neither less nor more",
		"- drop: \"*\"\n  by: push":                        "write newest as well",
		"- drop: \"*\"\n  newest: 3\n  by: name":           `"name" is no order; write version or push`,
		"- drop: \"*\"\n  newest: 0":                       "is no count",
		"- drop: \"*\"\n  in_use: \"Cluster North\"":       "no name of a list",
		"- drop: \"*\"\n  label: \"*=x\"":                  "a label is NAME",
		"- seal: \"*\"":                                    `"seal" is nothing that retention rules know; possible are keep, drop, in_use, label, larger_than, last_pull, last_push, older_than, type, untagged_for, except, because, newest, by, use and binding`,
		"- keep: \"*\"\n  drop: \"*\"":                     "a rule does one thing",
		"- drop: \"*\"\n  untagged_for: five days":         "is no span of time",
		"- drop: \"*\"\n  type: []":                        "a list has 1 to 100 values",
		"- drop: \"*\"\n  last_push: [\"< 1d\", \"> 2d\"]": "one value is wanted",
	} {
		_, err := Retention.Read(OfRegistry, "", []byte(words))
		assert.ErrorContains(t, err, says, words)
	}
}

func TestOnlyWhatCouldTakeMoreWidensAList(t *testing.T) {
	const a, b, k, m = "- drop: \"*:<commit>\"\n", "- {drop: \"*:<none>\", untagged_for: 5d}\n", "- keep: \"*:latest\"\n", "- {keep: \"*:<release>\", newest: 8}\n"
	for _, c := range []struct {
		before, after string
		widens        bool
	}{
		{"", "", false}, {"", k, false}, {"", a, true}, {a, "", false}, {a + b, b, false}, {a + b, b + a, true}, {a, k + a, false}, {k + a, a, true},
		{k + a, a + k, true}, {a + k, k, false}, {a + b, k + a + m + b + k, false}, {m + a, "- {keep: \"*:<release>\", newest: 7}\n" + a, true}, {a, "- use: night\n" + a, true},
		{a, "# said better\n- {drop: \"*:<commit>\", because: builds of the night}\n", false},
	} {
		before, after := retention(t, OfNamespace, "", c.before), retention(t, OfNamespace, "", c.after)
		assert.Equal(t, c.widens, Widens(before, after), "%q to %q", c.before, c.after)
	}
}

// TestNewestIsThatOfASortedList holds the choice of the newest against a list that is
// sorted.
func TestNewestIsThatOfASortedList(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		things := make([]*RetentionFacts, rapid.IntRange(1, 60).Draw(t, "things"))
		for i := range things {
			tag := rapid.SampledFrom([]oci.Tag{"1.0.0", "1.2.0", "v1.2.0", "2.0.0-rc.1", "10.0.0", "latest", "c-0123abc", ""}).Draw(t, "tag")
			things[i] = facts(rapid.IntRange(0, len(things)-1).Draw(t, "image"), tag, 0)
			things[i].Age, things[i].Arrival = 0, int64(things[i].Image*7919)%101
		}
		n := rapid.IntRange(1, 8).Draw(t, "n")
		by := rapid.SampledFrom([]string{ByVersion, ByPush}).Draw(t, "by")
		list := retention(t, OfNamespace, "", fmt.Sprintf("- {keep: [\"*:<version>\", \"*:l*\"], newest: %d, by: %s}", n, by))
		sorted := slices.Clone(things)
		slices.SortStableFunc(sorted, func(a, b *RetentionFacts) int {
			va, isA := ParseVersion(string(a.Tag))
			vb, isB := ParseVersion(string(b.Tag))
			if by == ByVersion {
				switch {
				case isA != isB:
					return map[bool]int{true: -1, false: 1}[isA]
				case isA && string(va.Key()) != string(vb.Key()):
					return map[bool]int{true: -1, false: 1}[string(va.Key()) > string(vb.Key())]
				}
			}
			return int(b.Arrival - a.Arrival)
		})
		in := map[int]bool{}
		for _, f := range sorted {
			if _, is := ParseVersion(string(f.Tag)); (is || f.Tag == "latest") && len(in) < n {
				in[f.Image] = true
			}
		}
		s := NewSurvey(things, list)
		for i, f := range things {
			_, is := ParseVersion(string(f.Tag))
			assert.Equal(t, (is || f.Tag == "latest") && in[f.Image], s.Verdict(i).Decided(), "%d: %s of image %d", i, f.Tag, f.Image)
		}
	})
}

func BenchmarkTheNewestOfAHundredThousand(b *testing.B) {
	things := make([]*RetentionFacts, 100_000)
	for i := range things {
		things[i] = facts(i, oci.Tag(fmt.Sprintf("%d.%d.%d", i%7, i%100, i)), i%300)
	}
	list := retention(b, OfNamespace, "", "- {keep: \"*:<release>\", newest: 50}\n- {drop: \"*:<release>\", older_than: 6w}")
	b.Run("newest", func(b *testing.B) {
		for b.Loop() {
			NewSurvey(things, list)
		}
	})
	b.Run("all", func(b *testing.B) {
		for b.Loop() {
			s := NewSurvey(things, list)
			dropped := 0
			for i := range things {
				if s.Verdict(i).Verb == Drop {
					dropped++
				}
			}
			require.Greater(b, dropped, 50_000)
		}
	})
}
