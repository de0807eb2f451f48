package rule

import (
	"bytes"
	"slices"
	"strconv"
	"strings"
)

// Part is which number of a version goes up.
type Part string

// The parts of a version.
const (
	Major Part = "major"
	Minor Part = "minor"
	Patch Part = "patch"
)

// SplitVersion takes the version off the end of a tag that has one, as in planner-1.4.0:
// prefix is what stands before it. A v before the numbers belongs to the version.
func SplitVersion(tag string) (prefix string, v Version, ok bool) {
	for i := range len(tag) {
		if i > 0 && (tag[i-1] == '.' || isDigits(tag[i-1:i])) {
			continue
		}
		if v, ok := ParseVersion(tag[i:]); ok {
			return tag[:i], v, true
		}
	}
	return "", Version{}, false
}

// HasV reports whether a tag that has a version writes it with a v.
func HasV(tag string) bool {
	prefix, _, ok := SplitVersion(tag)
	return ok && strings.HasPrefix(tag[len(prefix):], "v")
}

// String writes the version without a v.
func (v Version) String() string {
	s := strings.Join(v.numbers[:], ".")
	if !v.IsRelease() {
		s += "-" + strings.Join(v.preRelease, ".")
	}
	return s
}

// NextRelease returns the release behind a release, or with the zero value the first one:
// 1.0.0, 0.1.0 or 0.0.1.
func NextRelease(last Version, part Part) Version {
	next := Version{numbers: last.numbers}
	for i, number := range next.numbers {
		if number == "" {
			next.numbers[i] = "0"
		}
	}
	at := slices.Index([]Part{Major, Minor, Patch}, part)
	next.numbers[at] = plusOne(next.numbers[at])
	for i := at + 1; i < len(next.numbers); i++ {
		next.numbers[i] = "0"
	}
	return next
}

// plusOne adds one to a number of any length.
func plusOne(digits string) string {
	sum := []byte(digits)
	for i := len(sum) - 1; i >= 0; i-- {
		if sum[i] != '9' {
			sum[i]++
			return string(sum)
		}
		sum[i] = '0'
	}
	return "1" + string(sum)
}

// IsWord reports whether a text can stand before the number of a pre-release, as rc in
// 1.4.0-rc.2: an identifier of the standard that is no number and has no dash.
func IsWord(s string) bool { return isIdentifier(s) && !isDigits(s) && !strings.Contains(s, "-") }

// PreRelease returns the n-th pre-release of a release under a word.
func (v Version) PreRelease(word string, n int) Version {
	v.preRelease = []string{word, strconv.Itoa(n)}
	return v
}

// NextPreRelease returns the pre-release behind another one that PreRelease made.
func (v Version) NextPreRelease() Version {
	v.preRelease = slices.Clone(v.preRelease)
	last := len(v.preRelease) - 1
	v.preRelease[last] = plusOne(v.preRelease[last])
	return v
}

// PreReleaseKeys returns between which keys those of the numbered pre-releases of a
// release under a word are: from the first and below the second.
func (v Version) PreReleaseKeys(word string) (from, below []byte) {
	var key []byte
	for _, n := range v.numbers {
		key = appendNumber(key, n)
	}
	key = append(append(append(key, keyWord), word...), 0)
	return append(slices.Clone(key), keyNumber), append(key, keyWord)
}

// Step is which next version is wanted.
type Step struct {
	Part Part
	// Word is that of a pre-release, as rc in 1.4.0-rc.2; "" for a release.
	Word string
	// Prefix is what stands before the version, as in planner-1.4.0.
	Prefix string
}

// Release returns the release behind the last one, "" for none, that the step leads to or,
// where it has a word, before which it makes a pre-release.
func (s Step) Release(last string) Version {
	_, v, _ := SplitVersion(last)
	return NextRelease(v, s.Part)
}

// Behind returns the next version behind the last release and the last numbered
// pre-release of what comes next, "" for none; whether a v is written is as in those.
func (s Step) Behind(last, before string) string {
	next, v := s.Release(last), ""
	if HasV(last) || last == "" && HasV(before) {
		v = "v"
	}
	if s.Word != "" {
		next = next.PreRelease(s.Word, 1)
	}
	if before != "" {
		_, next, _ = SplitVersion(before)
		next = next.NextPreRelease()
	}
	return s.Prefix + v + next.String()
}

// From returns the next version behind names, of which others than versions under the
// prefix count for nothing.
func (s Step) From(names []string) string {
	highest := func(fits func(Version) bool) (found string) {
		var key []byte
		for _, name := range names {
			prefix, v, ok := SplitVersion(name)
			if ok && prefix == s.Prefix && fits(v) && bytes.Compare(v.Key(), key) > 0 {
				found, key = name, v.Key()
			}
		}
		return found
	}
	last, before := highest(Version.IsRelease), ""
	if s.Word != "" {
		from, below := s.Release(last).PreReleaseKeys(s.Word)
		before = highest(func(v Version) bool { return bytes.Compare(from, v.Key()) <= 0 && bytes.Compare(v.Key(), below) < 0 })
	}
	return s.Behind(last, before)
}

// Newer returns, of names, the releases behind a version with the same prefix that are the
// last of its minor version, of its major version, and of all, each once, the lowest first.
// It is empty where tag has no version in it.
func Newer(tag string, names []string) []string {
	prefix, now, ok := SplitVersion(tag)
	if !ok {
		return nil
	}
	var best [3]string
	var keys [3]Version
	for _, name := range names {
		p, v, is := SplitVersion(name)
		if !is || p != prefix || !v.IsRelease() || bytes.Compare(v.Key(), now.Key()) <= 0 {
			continue
		}
		for i, same := range []int{2, 1, 0} {
			if slices.Equal(v.numbers[:same], now.numbers[:same]) && (best[i] == "" || bytes.Compare(v.Key(), keys[i].Key()) > 0) {
				best[i], keys[i] = name, v
			}
		}
	}
	return slices.Compact(slices.DeleteFunc(best[:], func(s string) bool { return s == "" }))
}

// Nearest returns the tags of a list that stand next to one that is not among them, in their
// order, the newest first: of a version other versions with the same prefix, where there are
// any.
func Nearest(tag string, names []string, most int) []string {
	all := slices.Clone(names)
	if prefix, _, is := SplitVersion(tag); is {
		alike := slices.DeleteFunc(slices.Clone(all), func(name string) bool {
			p, _, is := SplitVersion(name)
			return !is || p != prefix
		})
		if len(alike) > 0 {
			all = alike
		}
	}
	slices.SortFunc(all, func(a, b string) int { return bytes.Compare(OrderKey(b), OrderKey(a)) })
	key := OrderKey(tag)
	at, _ := slices.BinarySearchFunc(all, key, func(name string, key []byte) int { return bytes.Compare(key, OrderKey(name)) })
	from := max(0, min(at-(most+1)/2, len(all)-most))
	return all[from:min(len(all), from+most)]
}
