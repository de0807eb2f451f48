package packing

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"github.com/Masterminds/semver/v3"

	"warthesis/internal/oci"
	"warthesis/internal/rule"
)

// written is a reference as it stands in a list, taken apart without its variables filled in.
type written struct{ repository, tag, digest string }

func (l Line) written() written {
	var w written
	text := l.Source
	text, w.digest, _ = strings.Cut(text, "@")
	slash := strings.LastIndexByte(text, '/')
	if colon := strings.LastIndexByte(text, ':'); colon > slash {
		text, w.tag = text[:colon], text[colon+1:]
	}
	w.repository = text
	return w
}

// means reports whether one of two references names what the other does: by the digest where
// both have one, else by the tag.
func (w written) means(other written) bool {
	switch {
	case w.repository != other.repository:
		return false
	case w.digest != "" && other.digest != "":
		return w.digest == other.digest
	}
	return w.tag == other.tag && w.tag != ""
}

// Join returns the references of several lists, each once, with the comments of all.
func Join(lists ...List) List {
	var all List
	seen := map[[2]string]bool{}
	for _, l := range lists {
		for _, line := range l.Lines {
			key := [2]string{line.Source, line.To}
			if line.Source != "" && seen[key] {
				continue
			}
			seen[key] = true
			line.Number = 0
			all.Lines = append(all.Lines, line)
		}
	}
	return all
}

// Subtract returns the list without the references that others name. Comments stay but for
// those of the lines that go.
func (l List) Subtract(others ...List) List {
	gone := map[string][]written{}
	for _, other := range others {
		for _, line := range other.Lines {
			if line.Source != "" {
				w := line.written()
				gone[w.repository] = append(gone[w.repository], w)
			}
		}
	}
	var left List
	for _, line := range l.Lines {
		w := line.written()
		if line.Source != "" && slices.ContainsFunc(gone[w.repository], w.means) {
			continue
		}
		left.Lines = append(left.Lines, line)
	}
	return left
}

// block is a line with the comments that stand above it.
type block struct {
	lines []Line
	written
	order []byte
}

// Sort returns the list by repository, and within one by version, the newest first. Comments
// stay above the reference that they stand above; what stands at the beginning, before an
// empty line, stays there, and so does what stands at the end.
func (l List) Sort() List {
	var sorted List
	rest := l.Lines
	// A head of comments ends at an empty line.
	if end := slices.IndexFunc(rest, func(l Line) bool { return l.Source != "" || l.Comment == "" }); end > 0 && rest[end].Source == "" {
		sorted.Lines, rest = append(sorted.Lines, rest[:end+1]...), rest[end+1:]
	}
	var blocks []block
	var above []Line
	for _, line := range rest {
		switch {
		case line.Source != "":
			w := line.written()
			blocks = append(blocks, block{append(above, line), w, rule.OrderKey(w.tag)})
			above = nil
		case line.Comment != "":
			above = append(above, line)
		}
	}
	slices.SortStableFunc(blocks, func(a, b block) int {
		if a.repository != b.repository {
			return strings.Compare(a.repository, b.repository)
		}
		if newer := bytes.Compare(b.order, a.order); newer != 0 {
			return newer
		}
		return strings.Compare(a.digest, b.digest)
	})
	for _, b := range blocks {
		sorted.Lines = append(sorted.Lines, b.lines...)
	}
	sorted.Lines = append(sorted.Lines, above...)
	return sorted
}

// Range is a range of versions, as in ">=2.1 <3" or "2.4.x".
type Range struct {
	text   string
	within *semver.Constraints
}

// ReadRange reads a range of versions.
func ReadRange(text string) (Range, error) {
	if len(text) > 200 {
		return Range{}, oci.Errorf(oci.CodeQueryInvalid, "a range of versions has at most 200 bytes")
	}
	is, err := semver.NewConstraint(text)
	if err != nil {
		return Range{}, oci.Errorf(oci.CodeQueryInvalid, "%q is no range of versions; write it as in \">=2.1 <3\", \"2.4.x\" or \"1.9 || 2.0.1\"", text)
	}
	return Range{text, is}, nil
}

// Has reports whether a tag is a version within the range. Pre-releases are within where the
// range names one.
func (r Range) Has(tag string) bool {
	if r.within == nil {
		return true
	}
	if _, is := rule.ParseVersion(tag); !is {
		return false
	}
	v, err := semver.StrictNewVersion(strings.TrimPrefix(tag, "v"))
	return err == nil && r.within.Check(v)
}

// Within returns the list with those references alone whose tags are versions within the
// range.
func (l List) Within(r Range) List {
	var left List
	for _, line := range l.Lines {
		if line.Source == "" || r.Has(line.written().tag) {
			left.Lines = append(left.Lines, line)
		}
	}
	return left
}

// Lock writes digests into the list, in place of the variables as well. digests has those of
// the items, by their line; a reference with a digest keeps it.
func (l List) Lock(values map[string]string, digests func(Item) []Locked) (List, error) {
	if _, err := l.Items(values); err != nil {
		return l, err
	}
	var locked List
	for _, line := range l.Lines {
		if line.Source == "" {
			locked.Lines = append(locked.Lines, line)
			continue
		}
		item, err := line.item(values)
		if err != nil {
			return l, line.say(err)
		}
		for _, one := range digests(item) {
			locked.Lines = append(locked.Lines, line.locked(item, one))
		}
	}
	return locked, nil
}

// Locked is what an item is locked to.
type Locked struct {
	Digest oci.Digest
	// Platform is that of the one image that is meant, "" for all that the reference names.
	Platform string
	// Several tells that other platforms of it are locked too: then none of them has the tag.
	Several bool
}

func (l Line) locked(item Item, to Locked) Line {
	ref := item.Ref.WithDigest(to.Digest)
	if to.Several {
		ref.Tag = ""
	}
	line := Line{Source: ref.String(), Comment: l.Comment}
	if item.Renamed {
		line.To = string(item.Name)
		if item.Tag != "" && !to.Several {
			line.To += ":" + string(item.Tag)
		}
	}
	if to.Platform != "" {
		said := to.Platform
		if to.Several && item.Tag != "" {
			said = fmt.Sprintf("%s of %s", to.Platform, item.Tag)
		}
		if line.Comment == "" {
			line.Comment = "#"
		}
		line.Comment += " " + said
	}
	return line
}
