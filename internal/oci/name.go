package oci

import (
	"strings"
	"unicode/utf8"
)

// MaxNameLength is the longest repository name in bytes. The standard leaves the
// limit to registries and warns of clients that count the host's name against
// 255 as well (distribution-spec, "Pulling manifests").
const MaxNameLength = 255

// MaxTagLength is the longest tag in bytes (distribution-spec, "Pulling manifests").
const MaxTagLength = 128

// isName reports whether the text is within the grammar of names, which is
//
//	[a-z0-9]+((\.|_|__|-+)[a-z0-9]+)*(\/[a-z0-9]+((\.|_|__|-+)[a-z0-9]+)*)*
//
// It is asked for every request, so it is no regular expression.
func isName(s string) bool {
	for component := range strings.SplitSeq(s, "/") {
		if !isComponent(component) {
			return false
		}
	}
	return true
}

func isComponent(s string) bool {
	for i := 0; ; {
		start := i
		for i < len(s) && isLowerOrDigit(s[i]) {
			i++
		}
		switch {
		case i == start:
			return false
		case i == len(s):
			return true
		case s[i] == '.':
			i++
		case s[i] == '_':
			i++
			if i < len(s) && s[i] == '_' {
				i++
			}
		case s[i] == '-':
			for i < len(s) && s[i] == '-' {
				i++
			}
		default:
			return false
		}
	}
}

func isLowerOrDigit(c byte) bool { return 'a' <= c && c <= 'z' || '0' <= c && c <= '9' }

// isTag reports whether the text, which is not too long, is within the grammar of
// tags, [a-zA-Z0-9_][a-zA-Z0-9._-]{0,127}.
func isTag(s string) bool {
	for i := range len(s) {
		c := s[i]
		if isLowerOrDigit(c) || 'A' <= c && c <= 'Z' || c == '_' || i > 0 && (c == '.' || c == '-') {
			continue
		}
		return false
	}
	return s != ""
}

// Name is the name of a repository within a registry, such as "timetable/planner".
type Name string

// ParseName checks a repository name against the grammar of the standard
// (distribution-spec, "Pulling manifests"). It fails with CodeNameInvalid.
func ParseName(s string) (Name, error) {
	switch {
	case s == "":
		return "", Errorf(CodeNameInvalid, "the repository name is empty; write one such as timetable/planner")
	case len(s) > MaxNameLength:
		return "", Errorf(CodeNameInvalid, "the repository name has %d characters, at most %d are allowed", len(s), MaxNameLength)
	case isName(s):
		return Name(s), nil
	case strings.ToLower(s) != s && isName(strings.ToLower(s)):
		return "", Errorf(CodeNameInvalid, "the repository name %q has capital letters; write %s", s, strings.ToLower(s))
	}
	return "", Errorf(CodeNameInvalid, "the repository name %s is not valid: components are lower-case letters and digits, "+
		"joined by '.', '_', '__' or '-', with '/' between components", quote(s))
}

// Below returns the name behind a prefix, "" for none.
func (n Name) Below(prefix Name) Name {
	if prefix == "" {
		return n
	}
	return prefix + "/" + n
}

// Namespace returns the first component of the name. A name of one component is
// its namespace's own root repository.
func (n Name) Namespace() string {
	first, _, _ := strings.Cut(string(n), "/")
	return first
}

// Tag is a tag within the grammar of the standard, such as "2.4.1".
type Tag string

// ParseTag checks a tag against the grammar of the standard (distribution-spec,
// "Pulling manifests"). It fails with CodeTagInvalid.
func ParseTag(s string) (Tag, error) {
	if len(s) > MaxTagLength {
		return "", Errorf(CodeTagInvalid, "the tag has %d characters, at most %d are allowed", len(s), MaxTagLength)
	}
	if !isTag(s) {
		return "", Errorf(CodeTagInvalid, "the tag %s is not valid: letters, digits, '_', '.' and '-' are allowed, "+
			"and the first character is a letter, a digit or '_'", quote(s))
	}
	return Tag(s), nil
}

// Cut returns the beginning of a text, of at most most bytes, that ends with a whole
// character.
func Cut(s string, most int) string {
	if len(s) <= most {
		return s
	}
	for most > 0 && !utf8.RuneStart(s[most]) {
		most--
	}
	return s[:most]
}

// quote shows hostile text in a message: quoted, and cut where it is long.
func quote(s string) string {
	const most = 80
	if len(s) > most {
		s = Cut(s, most) + "…"
	}
	return `"` + strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r == '"' {
			return '?'
		}
		return r
	}, s) + `"`
}
