package packing

import (
	"bytes"
	"regexp"
	"strings"
	"unicode/utf8"

	"warthesis/internal/oci"
)

// mention is what may be a reference in a text: a registry with a dot or a port, a name, and a
// tag or a digest.
var mention = regexp.MustCompile(`[A-Za-z0-9][A-Za-z0-9.-]*(?::[0-9]{1,5})?(?:/[a-z0-9][a-z0-9._-]*)+(?::[A-Za-z0-9_][A-Za-z0-9_.-]{0,127})?(?:@sha(?:256|512):[0-9a-f]{64,128})?`)

// apart are the characters that may stand before and behind a reference in a text.
const apart = " \t\r\n\"'`=,;()[]{}<>|"

// MostMentions is how many references are taken from one text.
const MostMentions = 20_000

// Mentions returns the references that stand in a text, in their order, each as often as it
// stands there. Those are taken that name a registry by a dot or a port, and a tag or a digest;
// a web address is none. A text that is none has none.
func Mentions(raw []byte) []oci.Reference {
	if !utf8.Valid(raw) || bytes.IndexByte(raw, 0) >= 0 {
		return nil
	}
	var all []oci.Reference
	for _, at := range mention.FindAllIndex(raw, -1) {
		if at[0] > 0 && !strings.ContainsRune(apart, rune(raw[at[0]-1])) || len(all) == MostMentions {
			continue
		}
		text := string(raw[at[0]:at[1]])
		if !strings.Contains(text, "@") {
			// A sentence may end behind it.
			text = strings.TrimRight(text, ".")
			if rest := raw[at[0]+len(text):]; len(rest) > 0 && !strings.ContainsRune(apart+".", rune(rest[0])) {
				continue
			}
		}
		host, _, _ := strings.Cut(text, "/")
		ref, err := oci.ParseReference(text)
		if err == nil && ref.Target() != "" && strings.ContainsAny(host, ".:") {
			all = append(all, ref)
		}
	}
	return all
}
