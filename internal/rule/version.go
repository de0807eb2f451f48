package rule

import "strings"

// Version is a tag that is a semantic version: three numbers without leading zeros,
// an optional v before them, and a pre-release part behind a dash. 1.2, 20240101 and
// 1.02.3 are none. Tags cannot carry build metadata.
type Version struct {
	numbers    [3]string
	preRelease []string
}

// ParseVersion reads a tag as a version.
func ParseVersion(tag string) (Version, bool) {
	core, pre, has := strings.Cut(strings.TrimPrefix(tag, "v"), "-")
	var v Version
	// Very many tags are asked: no list of parts is made.
	for i := range v.numbers {
		part, rest, more := strings.Cut(core, ".")
		if !isNumber(part) || more != (i < len(v.numbers)-1) {
			return v, false
		}
		v.numbers[i], core = part, rest
	}
	if !has {
		return v, true
	}
	v.preRelease = strings.Split(pre, ".")
	for _, part := range v.preRelease {
		if !isIdentifier(part) {
			return v, false
		}
	}
	return v, true
}

// IsRelease reports whether the version has no pre-release part.
func (v Version) IsRelease() bool { return len(v.preRelease) == 0 }

// isNumber reports whether a part is a number as the standard has it: digits,
// without a zero before others.
func isNumber(s string) bool { return isDigits(s) && (len(s) == 1 || s[0] != '0') }

func isDigits(s string) bool {
	for _, c := range []byte(s) {
		if c < '0' || c > '9' {
			return false
		}
	}
	return s != ""
}

func isIdentifier(s string) bool {
	if isDigits(s) {
		return isNumber(s)
	}
	for _, c := range []byte(s) {
		if !(c >= '0' && c <= '9' || c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' || c == '-') {
			return false
		}
	}
	return s != ""
}

// What stands in a key between numbers and identifiers. A version that ends sorts
// before one that goes on, numbers before words, and a release behind its
// pre-releases (Semantic Versioning 2.0.0, 11).
const (
	keyEnd     = 0x01
	keyNumber  = 0x02
	keyWord    = 0x03
	keyRelease = 0xff
)

// Key returns bytes that sort as versions do: of two keys the smaller one is that of
// the earlier version. Versions that differ by their v alone have the same.
func (v Version) Key() []byte {
	var key []byte
	for _, n := range v.numbers {
		key = appendNumber(key, n)
	}
	if v.IsRelease() {
		return append(key, keyRelease)
	}
	for _, part := range v.preRelease {
		if isDigits(part) {
			key = appendNumber(append(key, keyNumber), part)
		} else {
			key = append(append(append(key, keyWord), part...), 0)
		}
	}
	return append(key, keyEnd)
}

// appendNumber adds a number of any length: how many digits it has, then those. A
// tag has at most 128 characters, so that one byte says it.
func appendNumber(key []byte, digits string) []byte {
	return append(append(key, byte(len(digits))), digits...)
}

// keyKinds tells by the key of a tag, as OrderKey returns it, whether it is a version, and
// one without a pre-release part.
func keyKinds(key []byte) (version, release bool) {
	version = len(key) > 0 && key[0] != otherTag
	return version, version && key[len(key)-1] == keyRelease
}

// otherTag begins the key of a tag that is no version: it sorts before all that are.
const otherTag = 0x00

// OrderKey returns bytes that sort tags: those that are no version first, in natural
// order (numbers in them count as numbers), then versions. Tags that differ by the
// zeros before a number, or by a version's v alone, have the same key.
func OrderKey(tag string) []byte {
	if v, ok := ParseVersion(tag); ok {
		return v.Key()
	}
	key := []byte{otherTag}
	for tag != "" {
		digits := 0
		for digits < len(tag) && tag[digits] >= '0' && tag[digits] <= '9' {
			digits++
		}
		if digits == 0 {
			key, tag = append(key, tag[0]), tag[1:]
			continue
		}
		// A number stands where its digits would.
		number := strings.TrimLeft(tag[:digits], "0")
		key, tag = appendNumber(append(key, '0'), number), tag[digits:]
	}
	return key
}
