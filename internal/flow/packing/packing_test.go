package packing

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"warthesis/internal/oci"
)

const relay = "registry.larkspur.example/signals/relay"

func read(t require.TestingT, text string) List {
	l, err := Read([]byte(text))
	require.NoError(t, err)
	return l
}

func TestAListKeepsItsCommentsAndFillsItsVariables(t *testing.T) {
	text := "# the boxes of the north\n\n" + relay + ":${version} -> boxes/relay:${version}-north # box 14\n" + relay + ":stable\n"
	l := read(t, text)
	assert.Equal(t, text, string(l.Bytes()))
	assert.Equal(t, []string{"version"}, l.Variables())
	_, err := l.Items(nil)
	assert.ErrorContains(t, err, "line 3: the variable version has no value; give it with --set version=VALUE")
	items, err := l.Items(map[string]string{"version": "4.2.0"})
	require.NoError(t, err)
	assert.Equal(t, "boxes/relay:4.2.0-north", items[0].Target())
	assert.Equal(t, "signals/relay:stable", items[1].Target())
	values, err := Values([]string{"version=4.2.0", "vresion=1"})
	require.NoError(t, err)
	assert.Equal(t, "vresion", l.Unknown(values))
}

func TestWhatCannotBeMeantIsNamedWithItsLine(t *testing.T) {
	for text, says := range map[string]string{
		"signals relay":              "is no line of a packing list",
		relay + " => boxes/relay":    "is no line of a packing list",
		relay:                        "names neither a tag nor a digest; write " + relay + ":TAG",
		relay + ":1 -> Boxes":        "behind ->",
		relay + ":1 -> boxes:" + "-": "behind ->",
		relay + ":$version":          "has a $ in it that begins no variable",
		relay + ":1\n" + relay + ":2 -> signals/relay:1": "line 2: " + relay + ":2 would be called signals/relay:1 at the destination, as " + relay + ":1 is (line 1)",
		"\x00":                    "it is no text",
		strings.Repeat("a", 5000): "at most 4096 are read",
	} {
		l, err := Read([]byte(text))
		if err == nil {
			_, err = l.Items(nil)
		}
		assert.ErrorContains(t, err, says, text)
	}
}

func TestListsAreJoinedSubtractedSortedAndCutToVersions(t *testing.T) {
	a := "# head\n\n# of relay\n" + relay + ":1.9.0\n" + relay + ":2.1.0 # new\nother.example/a:1\n"
	b := relay + ":2.1.0 # new\n" + relay + ":1.10.0-rc.1\n# end\n"
	joined := Join(read(t, a), read(t, b))
	assert.Equal(t, a+relay+":1.10.0-rc.1\n# end\n", string(joined.Bytes()))
	assert.Equal(t, "# head\n\nother.example/a:1\n"+relay+":2.1.0 # new\n"+relay+":1.10.0-rc.1\n# of relay\n"+relay+":1.9.0\n# end\n", string(joined.Sort().Bytes()))
	assert.Equal(t, "# head\n\n# of relay\n"+relay+":1.9.0\nother.example/a:1\n# end\n", string(joined.Subtract(read(t, b)).Bytes()))
	within, err := ReadRange(">=1.9 <2")
	require.NoError(t, err)
	assert.Equal(t, 1, joined.Within(within).Len())
	_, err = ReadRange("about 2")
	assert.ErrorContains(t, err, "is no range of versions")
	// A digest tells more than a tag, where both lists have one.
	one, two := oci.DigestOf(oci.SHA256, []byte("1")).String(), oci.DigestOf(oci.SHA256, []byte("2")).String()
	locked := read(t, relay+":1@"+one+"\n")
	assert.Zero(t, locked.Subtract(read(t, relay+":0@"+one+"\n")).Len())
	assert.Equal(t, 1, locked.Subtract(read(t, relay+":1@"+two+"\n")).Len())
	assert.Zero(t, locked.Subtract(read(t, relay+":1\n")).Len())
}

// A locked list means what the list meant, and locking it again changes nothing.
func TestALockedListStaysAsItIs(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		lines := rapid.SliceOfN(rapid.SampledFrom([]string{
			"", "# a comment", relay + ":${v}", relay + ":1.2 # x", relay + ":1.3 -> boxes/relay", "other.example/a:1 -> b:${v}", "other.example/c:2 ->  d:7",
		}), 0, 6).Draw(t, "lines")
		l := read(t, strings.Join(lines, "\n"))
		values := map[string]string{"v": "9"}
		lock := func(i Item) []Locked {
			if i.IsLocked() {
				return []Locked{{Digest: i.Ref.Digest}}
			}
			return []Locked{{Digest: oci.DigestOf(oci.SHA256, []byte(i.Ref.String()))}}
		}
		locked, err := l.Lock(values, lock)
		require.NoError(t, err)
		was, err := l.Items(values)
		require.NoError(t, err)
		is, err := read(t, string(locked.Bytes())).Items(nil)
		require.NoError(t, err)
		require.Len(t, is, len(was))
		for at := range is {
			assert.True(t, is[at].IsLocked())
			assert.Equal(t, was[at].Name, is[at].Name)
			assert.Equal(t, was[at].Tag, is[at].Tag)
		}
		again, err := read(t, string(locked.Bytes())).Lock(nil, lock)
		require.NoError(t, err)
		assert.Equal(t, string(locked.Bytes()), string(again.Bytes()))
	})
}

func TestReferencesAreFoundInTexts(t *testing.T) {
	digest := oci.DigestOf(oci.SHA256, []byte("1")).String()
	text := `{"image":"` + relay + `@` + digest + `","doc":"https://docs.larkspur.example/a/b:1"} see ` + relay + `:4.2.0.
a.example:5000/x:1, ./local/path:12 word/word:1 a.example/no-tag (a.example/y:2)`
	var found []string
	for _, r := range Mentions([]byte(text)) {
		found = append(found, r.String())
	}
	assert.Equal(t, []string{relay + "@" + digest, relay + ":4.2.0", "a.example:5000/x:1", "a.example/y:2"}, found)
	assert.Empty(t, Mentions([]byte("a.example/y:2\x00")))
}
