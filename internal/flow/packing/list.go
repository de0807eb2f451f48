// Package packing holds packing lists: text that names the references which are to be copied
// or carried, one a line. It reads them, writes them with comments kept, joins, subtracts,
// sorts, and fills in their variables. It is pure: bytes in, bytes out.
//
// A line is a reference, a new name behind an arrow where it is to be called otherwise at
// the destination, and a comment:
//
//	registry.larkspur.example/signals/relay:${version} -> boxes/relay:${version}   # box 14
//
// A list in which each reference has its digest is locked: it means the same bytes for ever.
package packing

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"warthesis/internal/oci"
)

// The bounds of a list: its bytes, its lines, the bytes of one, and the references that it
// may name.
const (
	MostBytes = 16 << 20
	mostLines = 200_000
	mostLine  = 4096
	MostNames = 100_000
)

// arrow stands before the name at the destination.
const arrow = "->"

// Line is a line of a list as it stands, variables not filled in.
type Line struct {
	// Number counts from 1; zero for a line that was made.
	Number int
	// Source is the reference, "" for an empty line or one that is all comment.
	Source string
	// To is what it is called at the destination, NAME or NAME:TAG; "" for as it is.
	To string
	// Comment is the comment with its #, "" for none.
	Comment string
}

// List is a packing list, in its order.
type List struct{ Lines []Line }

// Read reads a list. Errors name the line and what is wrong with it.
func Read(raw []byte) (List, error) {
	var l List
	if len(raw) > MostBytes {
		return l, oci.Errorf(oci.CodeQueryInvalid, "the packing list has more than %d MiB", MostBytes>>20)
	}
	if !utf8.Valid(raw) || bytes.IndexByte(raw, 0) >= 0 {
		return l, oci.Errorf(oci.CodeQueryInvalid, "this is no packing list: it is no text; a list has a reference a line")
	}
	raw = bytes.TrimPrefix(raw, []byte("\xef\xbb\xbf"))
	for text := range strings.Lines(string(raw)) {
		number := len(l.Lines) + 1
		if number > mostLines {
			return l, oci.Errorf(oci.CodeQueryInvalid, "the packing list has more than %d lines; make two of it", mostLines)
		}
		line, err := readLine(strings.TrimSpace(text))
		if err != nil {
			return l, fmt.Errorf("line %d: %w", number, err)
		}
		line.Number = number
		l.Lines = append(l.Lines, line)
	}
	return l, nil
}

// readLine reads one line. A comment begins where the line does, or behind a space.
func readLine(text string) (Line, error) {
	var line Line
	if len(text) > mostLine {
		return line, oci.Errorf(oci.CodeQueryInvalid, "it has %d bytes, at most %d are read", len(text), mostLine)
	}
	for at, c := range text {
		if c == '#' && (at == 0 || text[at-1] == ' ' || text[at-1] == '\t') {
			text, line.Comment = strings.TrimSpace(text[:at]), text[at:]
			break
		}
	}
	words := strings.Fields(text)
	switch {
	case len(words) == 0:
	case len(words) == 1:
		line.Source = words[0]
	case len(words) == 3 && words[1] == arrow:
		line.Source, line.To = words[0], words[2]
	default:
		return line, oci.Errorf(oci.CodeQueryInvalid, "%.80q is no line of a packing list; a line is REFERENCE, or REFERENCE -> NAME:TAG, and comments begin with #", text)
	}
	return line, nil
}

// String writes the line.
func (l Line) String() string {
	var parts []string
	if l.Source != "" {
		parts = append(parts, l.Source)
	}
	if l.To != "" {
		parts = append(parts, arrow, l.To)
	}
	if l.Comment != "" {
		parts = append(parts, l.Comment)
	}
	return strings.Join(parts, " ")
}

// Bytes writes the list.
func (l List) Bytes() []byte {
	var out bytes.Buffer
	for _, line := range l.Lines {
		out.WriteString(line.String())
		out.WriteByte('\n')
	}
	return out.Bytes()
}

// Len is how many references the list names.
func (l List) Len() int {
	count := 0
	for _, line := range l.Lines {
		if line.Source != "" {
			count++
		}
	}
	return count
}

// Of returns a list of references, each once, in their order.
func Of(references []oci.Reference) List {
	var l List
	seen := map[string]bool{}
	for _, r := range references {
		if text := r.String(); !seen[text] {
			seen[text] = true
			l.Lines = append(l.Lines, Line{Source: text})
		}
	}
	return l
}

// Item is one reference of a list, with its variables filled in.
type Item struct {
	Line int
	Ref  oci.Reference
	// Name and Tag are what it is called at the destination, below the destination's prefix.
	// Tag is "" for what is known by its digest alone.
	Name oci.Name
	Tag  oci.Tag
	// Renamed tells that the list says so.
	Renamed bool
}

// Target is what the item is called at the destination.
func (i Item) Target() string {
	switch {
	case i.Tag != "":
		return string(i.Name) + ":" + string(i.Tag)
	case i.Ref.Digest != "":
		return string(i.Name) + "@" + i.Ref.Digest.String()
	}
	return string(i.Name)
}

// IsLocked reports whether the list says by digest which bytes are meant.
func (i Item) IsLocked() bool { return i.Ref.Digest != "" }

// Items returns the references of a list with its variables filled in, each once. It fails
// for a reference without tag and digest, and where two would be called the same at the
// destination.
func (l List) Items(values map[string]string) ([]Item, error) {
	var all []Item
	called := map[string]Item{}
	for _, line := range l.Lines {
		if line.Source == "" {
			continue
		}
		item, err := line.item(values)
		if err != nil {
			return nil, line.say(err)
		}
		other, is := called[item.Target()]
		switch {
		case !is:
			called[item.Target()] = item
			all = append(all, item)
		case other.Ref != item.Ref:
			return nil, line.say(oci.Errorf(oci.CodeQueryInvalid, "%s would be called %s at the destination, as %s is (line %d); give one of them another name with ->", item.Ref, item.Target(), other.Ref, other.Line))
		}
		if len(all) > MostNames {
			return nil, oci.Errorf(oci.CodeQueryInvalid, "the packing list names more than %d references; make two of it", MostNames)
		}
	}
	return all, nil
}

func (l Line) say(err error) error {
	if l.Number == 0 {
		return err
	}
	return fmt.Errorf("line %d: %w", l.Number, err)
}

// item reads the reference of a line.
func (l Line) item(values map[string]string) (item Item, err error) {
	item.Line = l.Number
	source, err := fill(l.Source, values)
	if err != nil {
		return item, err
	}
	if item.Ref, err = oci.ParseReference(source); err != nil {
		return item, err
	}
	if item.Ref.Tag == "" && item.Ref.Digest == "" {
		return item, oci.Errorf(oci.CodeQueryInvalid, "%s names neither a tag nor a digest; write %s:TAG", item.Ref, item.Ref)
	}
	item.Name, item.Tag = item.Ref.Name, item.Ref.Tag
	if l.To == "" {
		return item, nil
	}
	to, err := fill(l.To, values)
	if err != nil {
		return item, err
	}
	item.Renamed = true
	name, tag, has := strings.Cut(to, ":")
	if item.Name, err = oci.ParseName(name); err != nil {
		return item, fmt.Errorf("behind %s: %w", arrow, err)
	}
	if has {
		if item.Tag, err = oci.ParseTag(tag); err != nil {
			return item, fmt.Errorf("behind %s: %w", arrow, err)
		}
	}
	return item, nil
}

// Variables lists the variables of the list, in the order of their names.
func (l List) Variables() []string {
	var all []string
	for _, line := range l.Lines {
		for _, text := range []string{line.Source, line.To} {
			for _, m := range variable.FindAllStringSubmatch(text, -1) {
				all = append(all, m[1])
			}
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}
