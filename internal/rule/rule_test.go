package rule

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"warthesis/internal/oci"
)

// A star is any text, and a text is matched as the same pattern of another language does.
func TestATextIsMatchedAsItsPatternSays(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		pattern := rapid.StringMatching(`[ab/*]{0,10}`).Draw(t, "pattern")
		text := rapid.StringMatching(`[ab/]{0,12}`).Draw(t, "text")
		same := regexp.MustCompile("^" + strings.ReplaceAll(regexp.QuoteMeta(pattern), `\*`, `.*`) + "$")
		if same.MatchString(text) != MatchText(pattern, text) {
			t.Fatalf("%q on %q: %t", pattern, text, MatchText(pattern, text))
		}
	})
}

func TestAPatternSpeaksOfRepositoriesAndTags(t *testing.T) {
	for text, want := range map[string]struct{ yes, no []string }{
		"timetable/planner":           {[]string{"timetable/planner:1", "timetable/planner:"}, []string{"timetable/planner2:1"}},
		"timetable/*":                 {[]string{"timetable/a/b:1"}, []string{"timetable:1"}},
		"*:latest":                    {[]string{"a:latest"}, []string{"a:", "a:latest2"}},
		"*:*":                         {[]string{"a:x"}, []string{"a:"}},
		"*:release-*":                 {[]string{"a/b:release-", "a/b:release-7"}, []string{"a/b:Release-7"}},
		"*:<version>":                 {[]string{"a:1.2.3", "a:v1.2.3-rc.1"}, []string{"a:1.2", "a:20240101", "a:"}},
		"*:<release>":                 {[]string{"a:1.2.3"}, []string{"a:1.2.3-rc.1", "a:latest"}},
		"*:<commit>":                  {[]string{"a:0123abc", "a:c-0123abcdef", "a:" + strings.Repeat("0", 64)}, []string{"a:0123ab", "a:0123ABC", "a:-0123abc", "a:c1-0123abc", "a:a-b-0123abc", "a:" + strings.Repeat("0", 65), "a:"}},
		"*:<none>":                    {[]string{"a:"}, []string{"a:x"}},
		"berths/*-*/x:*" + "." + "*x": {[]string{"berths/a-b/x:1.x"}, []string{"berths/ab/x:1.x"}},
	} {
		p, err := ParsePattern(text)
		require.NoError(t, err, text)
		assert.Equal(t, text, p.String())
		for expected, names := range map[bool][]string{true: want.yes, false: want.no} {
			for _, name := range names {
				repository, tag, _ := strings.Cut(name, ":")
				assert.Equal(t, expected, p.Matches(Name{oci.Name(repository), oci.Tag(tag)}), "%s on %s", text, name)
			}
		}
	}
	assert.False(t, Pattern{}.Matches(Name{}), "the zero value matches nothing")
	for text, says := range map[string]string{
		"": "no pattern of a repository", "A/*": "lower case", "a:<versions>": "there are <version>, <release>, <commit> and <none>", "a:": "no pattern of a tag",
		"a:b c": "no pattern of a tag", "a?": "no pattern", "a:x-<version>": "one of", strings.Repeat("a", 500): "at most 384",
	} {
		_, err := ParsePattern(text)
		assert.ErrorContains(t, err, says, text)
	}
}

func TestSpansAndSizesAreReadAsTheyAreWritten(t *testing.T) {
	for text, want := range map[string]time.Duration{"90s": 90 * time.Second, "15m": 15 * time.Minute, "12h": 12 * time.Hour, "30d": 720 * time.Hour, "2w": 336 * time.Hour} {
		got, err := ParseSpan(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got.Duration())
	}
	for text, want := range map[string]Size{"1B": 1, "500MiB": 500 << 20, "2GiB": 2 << 30} {
		got, err := ParseSize(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got)
	}
	for _, text := range []string{"", "s", "0s", "-1s", "1", "1.5h", "1h30m", " 1h", "1H", "99999999999999w", "5300w", "1e3s", "١s"} {
		_, err := ParseSpan(text)
		assert.ErrorContains(t, err, "12h", text)
	}
	for _, text := range []string{"", "5", "5MB", "5mib", "0B", "9999999PiB", "-1GiB"} {
		_, err := ParseSize(text)
		assert.ErrorContains(t, err, "500MiB", text)
	}
	rapid.Check(t, func(t *rapid.T) {
		span := Span(rapid.Int64Range(1, int64(MostSpan)/int64(time.Second)).Draw(t, "seconds") * int64(time.Second))
		if again, err := ParseSpan(span.String()); err != nil || again != span {
			t.Fatalf("%d: %s, %s", span, span, err)
		}
		size := Size(rapid.Int64Min(1).Draw(t, "bytes"))
		if again, err := ParseSize(size.String()); err != nil || again != size {
			t.Fatalf("%d: %s, %s", size, size, err)
		}
	})
}

func read(t *testing.T, level Level, of, text string) List[TagFacts] {
	list, err := Immutability.Read(level, of, []byte(text))
	require.NoError(t, err)
	return list
}

// The first rule that means a thing decides; a repository's list is asked before its
// namespace's and the registry's, and what binds before all.
func TestTheFirstRuleThatMeansAThingDecides(t *testing.T) {
	repository := read(t, OfRepository, "the repository signals/box", "- seal: \"*:stable\"\n  because: signal boxes run it\n")
	namespace := read(t, OfNamespace, "the namespace signals", `
# what people may move
- free: ["*:latest", "*:stable"]
- seal: "*:<version>"
  except: "*:<release>"
  after: 1h
- free: "*"
`)
	registry := read(t, OfRegistry, "the registry", "- seal: '*:night'\n  binding: true\n- seal: \"*\"\n")
	for tag, want := range map[string]string{
		"stable":     `rule 1 of the repository signals/box says: seal: "*:stable" (signal boxes run it)`,
		"latest":     `rule 1 of the namespace signals says: free: ["*:latest", "*:stable"]`,
		"1.0.0-rc.1": `rule 2 of the namespace signals says: seal: "*:<version>", except: "*:<release>", after: 1h`,
		"1.0.0":      `rule 3 of the namespace signals says: free: "*"`,
		"night":      `rule 1 of the registry says: seal: "*:night", binding: true`,
	} {
		facts := TagFacts{Name{"signals/box", oci.Tag(tag)}, 2 * time.Hour}
		assert.Equal(t, want, Decide(facts, registry, namespace, repository).String(), tag)
	}
	young := Decide(TagFacts{Name{"signals/box", "1.0.0-rc.1"}, time.Minute}, registry, namespace, repository)
	assert.Equal(t, Free, young.Verb, "the condition does not hold yet")
	none := Decide(TagFacts{Name{"signals/box", "x"}, 0}, repository)
	assert.False(t, none.Decided())
	assert.Equal(t, "no rule speaks of it", none.String())
}

func TestWhatIsWrongIsSaidWithItsLineAndWhatIsPossible(t *testing.T) {
	for text, says := range map[string]string{
		"- seal: \"*\"\n- sael: \"*\"\n": `line 2, in rule 2: "sael" is nothing that immutability rules know; possible are seal, free, after, except, because and use`,
		"- free: x\n  after: soon":       `line 2, in rule 1: after: "soon" is no span of time`,
		"- free: x\n  after: [1h]":       `one value is wanted`,
		"- after: 1h":                    `line 1, in rule 1: the rule does not say what it does; give it seal or free`,
		"- seal: x\n  free: y":           `line 2, in rule 1: a rule does one thing`,
		"- seal: []":                     `the list of patterns is empty`,
		"- seal: [a, B]":                 `line 1, in rule 1: "B" is no pattern of a repository's name`,
		"- seal:":                        `the value is missing`,
		"- seal: {a: b}":                 `no plain value`,
		"- &x seal":                      `line 1, in rule 1: a rule is made of keys`,
		"- seal: &x y":                   `no plain value`,
		"- seal: x\n  binding: true":     `only rules of the registry can be binding`,
		"- seal: x\n  because: " + strings.Repeat("x", 501): `1 to 500 characters`,
		"seal: x":                                                "are a list: begin each with a dash, as in\n- seal: \"*:<version>\"",
		"- seal: x\n---\n- seal: y":                              `line 3: a list is one document`,
		"- seal: \"x":                                            `this is no YAML`,
		strings.Repeat("[", 40):                                  `deep`,
		strings.Repeat("- ", 40) + "x":                           `deep`,
		strings.Repeat("- seal: x\n", MostRules+1):               `at most 500 rules`,
		strings.Repeat("#", MostListBytes+1):                     `at most 64 KiB`,
		"- seal: [" + strings.Repeat("a, ", MostPatterns) + "a]": `at most 100 patterns`,
		"\xff": `UTF-8`,
	} {
		_, err := Immutability.Read(OfNamespace, "x", []byte(text))
		var fault *Fault
		require.ErrorAs(t, err, &fault, text)
		assert.ErrorContains(t, err, says)
	}
	_, err := Immutability.Read(OfRegistry, "x", []byte("- seal: x\n  binding: maybe"))
	assert.ErrorContains(t, err, "neither true nor false")
	twice, err := Immutability.Read(OfRegistry, "x", []byte("- seal: x\n  seal: y"))
	assert.Error(t, err, twice)
	for _, empty := range []string{"", "\n# nothing yet\n", "[]", "null"} {
		list, err := Immutability.Read(OfNamespace, "x", []byte(empty))
		require.NoError(t, err, empty)
		assert.Empty(t, list.Rules)
	}
}

// Whatever a list's rules are, the one that decides is the first whose pattern matches.
func TestOrderAloneDecides(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		patterns := rapid.SliceOfN(rapid.SampledFrom([]string{"*", "a/*", "*:x", "a/b:x", "*:<none>", "*:<version>", "b"}), 0, 8).Draw(t, "patterns")
		name := Name{oci.Name(rapid.SampledFrom([]string{"a/b", "b", "c"}).Draw(t, "repository")), oci.Tag(rapid.SampledFrom([]string{"", "x", "1.2.3"}).Draw(t, "tag"))}
		text := ""
		for i, p := range patterns {
			text += fmt.Sprintf("- %s: %q\n", []string{Seal, Free}[i%2], p)
		}
		list, err := Immutability.Read(OfNamespace, "n", []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		first := slices.IndexFunc(patterns, func(s string) bool {
			p, _ := ParsePattern(s)
			return p.Matches(name)
		})
		if got := Decide(TagFacts{Name: name}, list).Number; got != first+1 {
			t.Fatalf("rule %d decides, not %d", got, first+1)
		}
	})
}

// No list ends the program or is refused without a word, and what is read means the
// same when its words are read again.
// mostReadTime and mostReadBytes bound what reading any text may take: much more than a list
// needs, and much less than one that nests.
const (
	mostReadTime  = 5 * time.Second
	mostReadBytes = 256 << 20
)

// cost returns how long something takes, and how many bytes it allocates.
func cost(do func()) (took time.Duration, bytes uint64) {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	began := time.Now()
	do()
	took = time.Since(began)
	runtime.ReadMemStats(&after)
	return took, after.TotalAlloc - before.TotalAlloc
}

// hostileLists nest in ways that a count of brackets in each line misses, or are long.
var hostileLists = []string{
	strings.Repeat("[[[[\n", 3800), strings.Repeat("[", 60000), strings.Repeat("{a: ", 15000), strings.Repeat("[ \"]\",\n", 8000), strings.Repeat("[ # ]\n", 8000),
	strings.Repeat("- ", 30000), strings.Repeat("? ", 30000), strings.Repeat("- &a [\n", 8000), strings.Repeat("- !a {\n", 8000), strings.Repeat("- a\n", 16000),
	"- because: |\n    '\n" + strings.Repeat("- [[[[\n", 8000), strings.Repeat("a: [\n", 12000), "[" + strings.Repeat("'[', [", 10000), strings.Repeat("-\n ", 20000),
}

func TestNoListTakesMoreThanItsLengthIsWorth(t *testing.T) {
	for _, hostile := range hostileLists {
		hostile = hostile[:min(len(hostile), MostListBytes)]
		took, bytes := cost(func() {
			_, err := Immutability.Read(OfRegistry, "x", []byte(hostile))
			assert.Error(t, err, "%.30q", hostile)
		})
		assert.Less(t, took, mostReadTime, "%.30q", hostile)
		assert.Less(t, bytes, uint64(mostReadBytes), "%.30q", hostile)
	}
	// The longest list that is one is read.
	var long strings.Builder
	for i := range MostRules {
		fmt.Fprintf(&long, "- seal: [\"a%d/*:<version>\", \"b%d/*\"]\n  except: \"*:x\"\n  because: \"see [1\"\n", i, i)
	}
	require.Less(t, long.Len(), MostListBytes)
	list, err := Immutability.Read(OfRegistry, "x", []byte(long.String()))
	require.NoError(t, err)
	assert.Len(t, list.Rules, MostRules)
}

func FuzzRead(f *testing.F) {
	for _, seed := range []string{"- seal: \"*:<version>\"\n  after: 1h\n  because: so", "- free: [a, b:<commit>]\n  except: c", "[]", "- {seal: x}", "? - a\n: b", "- !!x seal: *a", "---\n...", "- seal: |\n   x", "- seal: >-\n   *"} {
		f.Add([]byte(seed))
	}
	for _, seed := range hostileLists {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		// What repeats takes no more time and memory than its length is worth.
		for _, document := range [][]byte{raw, bytes.Repeat(append(raw, '\n'), max(1, 16<<10/(len(raw)+1)))} {
			if took, bytes := cost(func() { _, _ = Immutability.Read(OfRegistry, "x", document) }); took > mostReadTime || bytes > mostReadBytes {
				t.Fatalf("%.200q of %d bytes takes %s and %d MiB", raw, len(document), took, bytes>>20)
			}
		}
		list, err := Immutability.Read(OfRegistry, "x", raw)
		var fault *Fault
		if err != nil && (!errors.As(err, &fault) || fault.Message == "" || fault.Line < 0 || fault.Line > bytes.Count(raw, []byte("\n"))+bytes.Count(raw, []byte("\r"))+2) {
			t.Fatalf("%q is refused with %v", raw, err)
		}
		for _, r := range list.Rules {
			again, err := Immutability.Read(OfRegistry, "x", []byte("- {"+r.Words+"}"))
			if err != nil || len(again.Rules) != 1 || again.Rules[0].Words != r.Words {
				t.Fatalf("%q has the words %q, which are %v", raw, r.Words, err)
			}
		}
	})
}

func FuzzPattern(f *testing.F) {
	for _, seed := range []string{"*", "a/*:<version>", "a:*-*", "a:<none>"} {
		f.Add(seed, "a/b", "1.2.3")
	}
	f.Fuzz(func(t *testing.T, text, repository, tag string) {
		p, err := ParsePattern(text)
		if err == nil && (p.String() != text || p.Matches(Name{oci.Name(repository), oci.Tag(tag)}) && !MatchText(p.Repository(), repository)) {
			t.Fatalf("%q", text)
		}
	})
}

// BenchmarkAThousandPatterns is what a decision may cost where many rules stand.
func BenchmarkAThousandPatterns(b *testing.B) {
	var all Patterns
	for i := range 250 {
		for _, form := range []string{"team-%d/*:*", "*/app-%d:<version>", "team-%d/*-x:<commit>", "*-%d*:release-*"} {
			p, err := ParsePattern(fmt.Sprintf(form, i))
			if err != nil {
				b.Fatal(err)
			}
			all = append(all, p)
		}
	}
	n := Name{"timetable/planner/worker", "v1.22.3-rc.1"}
	for b.Loop() {
		if all.Match(n) {
			b.Fatal("it matches")
		}
	}
}

// A list that uses a named one has its rules in that place, and its verdicts name it; what
// does not decide says why.
func TestNamedListsAndWhyNot(t *testing.T) {
	boxes := read(t, OfName, "", "immutability:\n- seal: \"*:<release>\"\n  after: 1h\n  except: \"*:0.0.0\"\n  because: boxes run it\n")
	list := read(t, OfNamespace, "the namespace signals", "- free: \"other/*\"\n- free: \"*:latest\"\n- use: boxes\n- seal: \"*:night\"\n")
	assert.Equal(t, []string{"boxes"}, list.Uses())
	whole := list.With(map[string]List[TagFacts]{"boxes": boxes})
	facts := TagFacts{Name{"signals/relay", "1.0.0"}, 2 * time.Hour}
	assert.Equal(t, `rule 1 of the list boxes (used by the namespace signals) says: seal: "*:<release>", after: 1h, except: "*:0.0.0" (boxes run it)`,
		Decide(facts, whole).String())
	var why []string
	for _, a := range Explain(facts, whole) {
		why = append(why, strings.TrimSpace(fmt.Sprintf("%d %t %s", a.Number, a.Decides, a.Why)))
	}
	assert.Equal(t, []string{"1 false it speaks of other repositories", "2 false it speaks of other tags", "1 true", "4 false a rule before it decides"}, why)
	assert.Equal(t, "after: 1h does not hold", Explain(TagFacts{facts.Name, time.Minute}, whole)[2].Why)
	assert.Equal(t, `it excepts "*:0.0.0"`, Explain(TagFacts{Name{"signals/relay", "0.0.0"}, 0}, whole)[2].Why)
	for text, says := range map[string]string{
		"- use: boxes\n  because: x":                   "says nothing else",
		"- use: Boxes":                                 "no name of a list",
		"- use: [a, b]":                                "one value is wanted",
		strings.Repeat("- use: boxes\n", MostUses+1):   "at most 10 others",
		"retention:\n- seal: x":                        "are a list",
		"immutability:\n- seal: x\nretention:\n- a: b": "are a list",
	} {
		_, err := Immutability.Read(OfNamespace, "x", []byte(text))
		assert.ErrorContains(t, err, says, text)
	}
	_, err := Immutability.Read(OfName, "", []byte("- use: x"))
	assert.ErrorContains(t, err, `"use" is nothing`)
}
