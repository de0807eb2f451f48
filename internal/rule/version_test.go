package rule

import (
	"bytes"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestOnlySemanticVersionsAreVersions(t *testing.T) {
	for tag, release := range map[string]bool{
		"1.2.3": true, "v1.2.3": true, "0.0.0": true, "10.20.30": true, "99999999999999999999.0.1": true,
		"1.2.3-rc.1": false, "v2.0.0-0": false, "1.0.0-alpha-7.x": false, "1.0.0--": false,
	} {
		v, ok := ParseVersion(tag)
		assert.True(t, ok, tag)
		assert.Equal(t, release, v.IsRelease(), tag)
		assert.NotEmpty(t, OrderKey(tag), tag)
	}
	for _, tag := range []string{
		"", "v", "1", "1.2", "1.2.3.4", "20240101", "2024.01.01", "01.2.3", "1.2.x", "vv1.2.3", "V1.2.3", "latest", "1.2.3-", "1.2.3-rc.01", "1.2.3-a..b", "1.2.3_4", "1..3", "-1.2.3",
	} {
		_, ok := ParseVersion(tag)
		assert.False(t, ok, tag)
	}
}

// The order is the one that the standard gives as its example, and ours around it; what is
// no version stands before all that are, numbers in it by what they count.
func TestKeysSortAsVersionsDo(t *testing.T) {
	ordered := []string{
		"1.2", "2", "10", "2024.01.2", "2024.01.10", "20240101", "V1.2.3", "latest", "nightly", "nightly-2", "nightly-10", "nightly-10-b", "nightly-b",
		"0.0.1", "0.9.0", "0.10.0", "1.0.0-0", "1.0.0-2", "1.0.0-11", "1.0.0-alpha", "1.0.0-alpha.1", "1.0.0-alpha.beta", "1.0.0-alpha-b", "1.0.0-beta",
		"1.0.0-beta.2", "1.0.0-beta.11", "1.0.0-rc.1", "v1.0.0", "1.0.1", "1.2.0", "1.10.0", "2.0.0", "10.0.0", "2147483648.0.0", "99999999999999999999.0.0",
	}
	mixed := slices.Clone(ordered)
	rand.New(rand.NewPCG(1, 2)).Shuffle(len(mixed), func(i, j int) { mixed[i], mixed[j] = mixed[j], mixed[i] })
	slices.SortFunc(mixed, func(a, b string) int { return bytes.Compare(OrderKey(a), OrderKey(b)) })
	assert.Equal(t, ordered, mixed)
	assert.Equal(t, OrderKey("1.2.3"), OrderKey("v1.2.3"), "a v makes no difference")
}

func TestTheNextVersionIsBehindWhatThereIs(t *testing.T) {
	for _, try := range []struct{ tag, prefix, version string }{
		{"1.4.0", "", "1.4.0"}, {"v1.4.0-rc.2", "", "1.4.0-rc.2"}, {"planner-1.4.0", "planner-", "1.4.0"}, {"planner-v1.4.0", "planner-", "1.4.0"}, {"a11.2.3", "a", "11.2.3"},
		{"latest", "", ""}, {"1.2", "", ""}, {"1.2.3.4", "", ""}, {"0.01.2.3", "", ""}, {"planner-01.2.3", "", ""},
	} {
		prefix, v, ok := SplitVersion(try.tag)
		assert.Equal(t, try.prefix, prefix, try.tag)
		if assert.Equal(t, try.version != "", ok, try.tag) && ok {
			assert.Equal(t, try.version, v.String())
		}
	}
	assert.True(t, HasV("planner-v1.4.0"))
	assert.False(t, HasV("planner-1.4.0"))
	for _, try := range []struct {
		last string
		part Part
		next string
	}{
		{"", Major, "1.0.0"}, {"", Minor, "0.1.0"}, {"", Patch, "0.0.1"}, {"1.2.3", Major, "2.0.0"}, {"1.2.3", Minor, "1.3.0"}, {"1.2.9", Patch, "1.2.10"},
		{"1.2.99999999999999999999", Patch, "1.2.100000000000000000000"},
	} {
		last, _ := ParseVersion(try.last)
		assert.Equal(t, try.next, NextRelease(last, try.part).String())
	}
	release, _ := ParseVersion("1.4.0")
	from, below := release.PreReleaseKeys("rc")
	in := func(tag string) bool {
		key := OrderKey(tag)
		return bytes.Compare(from, key) <= 0 && bytes.Compare(key, below) < 0
	}
	for tag, is := range map[string]bool{
		"1.4.0-rc.1": true, "1.4.0-rc.99": true, "v1.4.0-rc.0": true, "1.4.0": false, "1.4.0-rc": false, "1.4.0-rca.1": false, "1.4.0-beta.1": false, "1.4.1-rc.1": false, "1.4.0-rc.x": false,
	} {
		assert.Equal(t, is, in(tag), tag)
	}
	for _, try := range []struct {
		step  Step
		next  string
		names []string
	}{
		{Step{Part: Minor}, "v1.5.0", []string{"v1.4.0", "1.3.9", "latest", "planner-7.0.0", "1.4.0-rc.9", "20240101"}},
		{Step{Part: Patch, Word: "rc"}, "1.4.1-rc.11", []string{"1.4.0", "1.4.1-rc.9", "1.4.1-rc.10", "1.4.1-beta.12", "1.4.2-rc.1"}},
		{Step{Part: Major, Word: "beta"}, "2.0.0-beta.1", []string{"1.4.0", "2.0.0-rc.1"}},
		{Step{Part: Minor, Prefix: "planner-"}, "planner-v7.1.0", []string{"1.4.0", "planner-v7.0.0", "board-9.0.0"}},
		{Step{Part: Minor, Word: "rc"}, "v0.1.0-rc.2", []string{"v0.1.0-rc.1"}},
		{Step{Part: Minor}, "0.1.0", nil},
	} {
		assert.Equal(t, try.next, try.step.From(try.names), try)
	}
	assert.Equal(t, "1.4.0-rc.10", release.PreRelease("rc", 9).NextPreRelease().String())
}

func TestNewerReleasesOfEachKind(t *testing.T) {
	names := []string{"2.4.0", "2.4.1", "2.4.2", "2.5.0-rc.1", "2.5.1", "2.9.0", "3.0.0", "x-9.9.9", "latest", "10.0.0"}
	assert.Equal(t, []string{"2.4.2", "2.9.0", "10.0.0"}, Newer("2.4.1", names))
	assert.Equal(t, []string{"2.4.2", "2.9.0", "10.0.0"}, Newer("2.4.2-rc.1", names))
	assert.Equal(t, []string{"10.0.0"}, Newer("3.0.0", names))
	assert.Empty(t, Newer("latest", names))
	assert.Equal(t, []string{"x-9.9.9"}, Newer("x-1.0.0", names))
}

func TestAKeyTellsWhatKindOfAVersionATagIs(t *testing.T) {
	for _, tag := range []string{"1.2.3", "v1.2.3", "1.2.3-rc.1", "1.2", "latest", "", "01.2.3", "1.2.255", "1.2.3-ÿ", "2026.10.1", "c-0123abc", "1.2.3-0"} {
		v, is := ParseVersion(tag)
		version, release := keyKinds(OrderKey(tag))
		assert.Equal(t, is, version, tag)
		assert.Equal(t, is && v.IsRelease(), release, tag)
	}
}
