package peer

import "strings"

// challenge is what a registry asks for (RFC 9110, section 11.6.1).
type challenge struct {
	scheme string
	parts  map[string]string
}

// mostChallenges bounds what is read of challenges.
const mostChallenges = 16

// readChallenges reads all challenges of all header lines: several may stand in one,
// and a comma separates challenges as well as the parts of one.
func readChallenges(header []string) []challenge {
	var all []challenge
	for _, line := range header {
		s := &scanner{rest: line}
		for len(all) < mostChallenges && s.skip(" \t,") {
			word := s.token()
			if word == "" {
				break
			}
			if value, is := s.value(); is {
				// A part belongs to the challenge before it.
				if len(all) > 0 && len(all[len(all)-1].parts) < mostChallenges {
					all[len(all)-1].parts[strings.ToLower(word)] = value
				}
				continue
			}
			all = append(all, challenge{strings.ToLower(word), map[string]string{}})
		}
	}
	return all
}

// scanner reads a header's words.
type scanner struct{ rest string }

// skip passes over characters, and reports whether anything is left.
func (s *scanner) skip(any string) bool {
	s.rest = strings.TrimLeft(s.rest, any)
	return s.rest != ""
}

func (s *scanner) token() string {
	end := strings.IndexFunc(s.rest, func(r rune) bool { return r <= ' ' || r >= 0x7f || strings.ContainsRune(`(),/:;<=>?@[\]{}"`, r) })
	if end < 0 {
		end = len(s.rest)
	}
	word := s.rest[:end]
	s.rest = s.rest[end:]
	return word
}

// value reads "=value" behind a word, where it stands there. A lone word, perhaps
// with a token68 behind it, has none.
func (s *scanner) value() (string, bool) {
	rest := strings.TrimLeft(s.rest, " \t")
	if !strings.HasPrefix(rest, "=") {
		return "", false
	}
	s.rest = strings.TrimLeft(rest[1:], " \t")
	if !strings.HasPrefix(s.rest, `"`) {
		return s.token(), true
	}
	var b strings.Builder
	for i := 1; i < len(s.rest); i++ {
		switch c := s.rest[i]; {
		case c == '"':
			s.rest = s.rest[i+1:]
			return b.String(), true
		case c == '\\' && i+1 < len(s.rest):
			i++
			b.WriteByte(s.rest[i])
		default:
			b.WriteByte(c)
		}
	}
	s.rest = ""
	return b.String(), true
}
