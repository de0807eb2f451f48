package rule

import (
	"fmt"
	"regexp"
	"strings"

	"warthesis/internal/oci"
)

// MatchText reports whether a text is what a pattern says, where * is any text,
// slashes included, and all else is itself.
func MatchText(pattern, text string) bool {
	c := compile(pattern)
	return c.matches(text)
}

// compiled is a pattern of text, taken apart at its stars.
type compiled struct {
	// exact has no star: first is all of it.
	exact       bool
	first, last string
	between     []string
}

func compile(pattern string) compiled {
	star := strings.IndexByte(pattern, '*')
	if star < 0 {
		return compiled{exact: true, first: pattern}
	}
	end := strings.LastIndexByte(pattern, '*')
	c := compiled{first: pattern[:star], last: pattern[end+1:]}
	if star < end {
		c.between = strings.Split(pattern[star+1:end], "*")
	}
	return c
}

// matches takes no memory, and time that grows with the text times the parts at most.
func (c *compiled) matches(text string) bool {
	if c.exact {
		return text == c.first
	}
	// One byte at either end tells most apart, without a call.
	if len(text) < len(c.first)+len(c.last) || c.first != "" && text[0] != c.first[0] || c.last != "" && text[len(text)-1] != c.last[len(c.last)-1] {
		return false
	}
	if !strings.HasPrefix(text, c.first) || !strings.HasSuffix(text, c.last) {
		return false
	}
	text = text[len(c.first) : len(text)-len(c.last)]
	for _, part := range c.between {
		// The earliest place is as good as any: what follows has the more left.
		at := strings.Index(text, part)
		if at < 0 {
			return false
		}
		text = text[at+len(part):]
	}
	return true
}

// Name is what patterns are asked of: a tag of a repository or, with an empty tag, what
// of it has no tag.
type Name struct {
	Repository oci.Name
	Tag        oci.Tag
}

// tagKind is what the tag's place of a pattern says.
type tagKind byte

const (
	// anything: the pattern has no place for a tag; it speaks of all tags and of none.
	anything tagKind = iota
	// byText: the tag is matched by its text.
	byText
	byVersion
	byRelease
	byCommit
	// none: only what has no tag.
	none
)

// tagKinds are the words in angle brackets.
var tagKinds = map[string]tagKind{"<version>": byVersion, "<release>": byRelease, "<commit>": byCommit, "<none>": none}

// TagKinds lists the words that stand for kinds of tags.
func TagKinds() []string { return []string{"<version>", "<release>", "<commit>", "<none>"} }

// Pattern is REPOSITORY or REPOSITORY:TAG. In both, * is any text. In the tag's place a
// word in angle brackets is a kind of tags: <version> a semantic version, <release> one
// without a pre-release part, <commit> 7 to 64 lower-case hex digits behind letters and
// a dash at most, <none> what has no tag. The zero value matches nothing.
type Pattern struct {
	text       string
	repository compiled
	kind       tagKind
	tag        compiled
}

// MostPattern is the longest pattern, in bytes: a repository's name and a tag.
const MostPattern = 255 + 1 + 128

var (
	repositoryText = regexp.MustCompile(`^[a-z0-9._/*-]{1,255}$`)
	tagText        = regexp.MustCompile(`^[A-Za-z0-9_.*-]{1,128}$`)
)

// ParsePattern reads a pattern.
func ParsePattern(s string) (Pattern, error) {
	repository, tag, has := strings.Cut(s, ":")
	p := Pattern{text: s, repository: compile(repository), tag: compile(tag)}
	switch {
	case len(s) > MostPattern:
		return Pattern{}, fmt.Errorf("a pattern has at most %d characters, and this one %d", MostPattern, len(s))
	case !repositoryText.MatchString(repository):
		return Pattern{}, fmt.Errorf("%q is no pattern of a repository's name; write a name, in lower case, or one with * for any text, as in timetable/*", repository)
	case !has:
		return p, nil
	case strings.HasPrefix(tag, "<"):
		kind, known := tagKinds[tag]
		if !known {
			return Pattern{}, fmt.Errorf("%q is no kind of tags; there are %s", tag, listed(TagKinds()))
		}
		p.kind = kind
	case tagText.MatchString(tag):
		p.kind = byText
	default:
		return Pattern{}, fmt.Errorf("%q is no pattern of a tag; write a tag, one with * for any text, or one of %s", tag, listed(TagKinds()))
	}
	return p, nil
}

// String returns the pattern as it was written.
func (p Pattern) String() string { return p.text }

// Repository returns the part of the pattern that speaks of the repository's name.
func (p Pattern) Repository() string {
	repository, _, _ := strings.Cut(p.text, ":")
	return repository
}

// HasTag reports whether the pattern says anything about tags.
func (p Pattern) HasTag() bool { return p.kind != anything }

// Tags returns what the pattern says of tags as a text with * for any text, "" for all; whole
// tells that this is all it says of them, and not a kind.
func (p Pattern) Tags() (glob string, whole bool) {
	switch p.kind {
	case anything:
		return "", true
	case byText:
		_, tag, _ := strings.Cut(p.text, ":")
		return tag, true
	}
	return "", false
}

// Kind returns the word in angle brackets in the tag's place, "" for none.
func (p Pattern) Kind() string {
	if _, tag, has := strings.Cut(p.text, ":"); has && p.kind != byText {
		return tag
	}
	return ""
}

// MeansTag reports whether the place for a tag means one, whatever the repository.
func (p Pattern) MeansTag(tag oci.Tag) bool {
	p.repository = compile("*")
	return p.Matches(Name{Tag: tag})
}

// isCommit reports whether a tag is 7 to 64 lower-case hex digits, behind letters and a
// dash at most.
func isCommit(tag string) bool {
	letters, digits, dash := strings.Cut(tag, "-")
	if !dash {
		letters, digits = "", tag
	}
	if len(digits) < 7 || len(digits) > 64 || dash && letters == "" {
		return false
	}
	isLetter := func(c rune) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }
	isHex := func(c rune) bool { return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' }
	return !strings.ContainsFunc(letters, func(c rune) bool { return !isLetter(c) }) && !strings.ContainsFunc(digits, func(c rune) bool { return !isHex(c) })
}

// asked is a name that many patterns are asked of: of what kinds its tag is is found
// out once.
type asked struct {
	Name
	// versionKnown and commitKnown tell what was found out already.
	versionKnown, commitKnown bool
	version, release, commit  bool
}

func (a *asked) isOf(kind tagKind) bool {
	if kind == byCommit {
		if !a.commitKnown {
			a.commit, a.commitKnown = isCommit(string(a.Tag)), true
		}
		return a.commit
	}
	if !a.versionKnown {
		var v Version
		v, a.version = ParseVersion(string(a.Tag))
		a.release, a.versionKnown = a.version && v.IsRelease(), true
	}
	if kind == byVersion {
		return a.version
	}
	return a.release
}

// Matches reports whether the pattern speaks of a name.
func (p Pattern) Matches(n Name) bool { return p.matches(&asked{Name: n}) }

func (p *Pattern) matches(a *asked) bool {
	if p.text == "" || !p.repository.matches(string(a.Repository)) {
		return false
	}
	switch p.kind {
	case anything:
		return true
	case none:
		return a.Tag == ""
	case byText:
		return a.Tag != "" && p.tag.matches(string(a.Tag))
	}
	return a.isOf(p.kind)
}

// Patterns are several, of which one that matches is enough.
type Patterns []Pattern

// Match reports whether one of the patterns speaks of a name.
func (all Patterns) Match(n Name) bool { return all.match(&asked{Name: n}) }

func (all Patterns) match(a *asked) bool {
	for i := range all {
		if all[i].matches(a) {
			return true
		}
	}
	return false
}

// String returns the patterns as they are written in a rule.
func (all Patterns) String() string {
	quoted := make([]string, len(all))
	for i, p := range all {
		quoted[i] = `"` + p.text + `"`
	}
	if len(quoted) == 1 {
		return quoted[0]
	}
	return "[" + strings.Join(quoted, ", ") + "]"
}

// listed joins words as people do.
func listed(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
}
