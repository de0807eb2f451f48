package sized

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestACacheIsBoundedInBytesAndInEntries(t *testing.T) {
	c := New(100_000, 50, func(k, v string) int { return len(k) + len(v) })
	for i := range 1000 {
		c.Add(fmt.Sprint(i), strings.Repeat("x", i%5000))
		assert.LessOrEqual(t, c.Bytes(), 100_000)
		assert.LessOrEqual(t, c.Len(), 50)
	}
	c.Purge()
	assert.Zero(t, c.Bytes())
	c.Add("large", strings.Repeat("x", 10_000))
	_, there := c.Get("large")
	assert.False(t, there, "one value does not push out all others")
	c.Add("a", "1")
	c.Add("a", "22")
	v, _ := c.Get("a")
	assert.Equal(t, "22", v)
	assert.Equal(t, entryOverhead+3, c.Bytes())
	assert.True(t, c.Remove("a"))
	assert.Zero(t, c.Bytes())
}
