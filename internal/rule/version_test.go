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
