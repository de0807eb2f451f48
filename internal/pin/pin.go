// Package pin finds references to images in the files that hold them, build files, compose
// files and cluster manifests, and writes other references into their places, byte for byte
// the same elsewhere. It is pure: bytes in, bytes out.
package pin

import (
	"bytes"
	"path"
	"slices"
	"strings"

	"warthesis/internal/oci"
)

// MostBytes is the largest file that is read, in bytes.
const MostBytes = 4 << 20

// Found is a place in a file where a reference stands, or where one could.
type Found struct {
	// Line is counted from 1; Start and End are where the text is, in bytes.
	Line       int
	Start, End int
	// Text is what stands there.
	Text string
	// Ref is what it names. Bare tells that it names no registry: what that means is a
	// setting of the engine. Such a one has an empty Registry.
	Ref  oci.Reference
	Bare bool
	// Skip says why it is left as it is, "" for a reference.
	Skip string
}

// IsBuildFile reports whether a file is a build file, by its name.
func IsBuildFile(name string) bool {
	base := strings.ToLower(path.Base(name))
	for _, word := range []string{"dockerfile", "containerfile"} {
		if base == word || strings.HasPrefix(base, word+".") || strings.HasSuffix(base, "."+word) {
			return true
		}
	}
	return false
}

// IsYAML reports whether a file may be a compose file or a cluster manifest, by its name.
func IsYAML(name string) bool {
	ending := strings.ToLower(path.Ext(name))
	return ending == ".yaml" || ending == ".yml"
}

// Find returns the references in a file, in their order. A file that is neither by its name
// is read as what it looks like. It fails where a YAML file is none.
func Find(name string, raw []byte) ([]Found, error) {
	if IsBuildFile(name) || !IsYAML(name) && looksLikeBuild(raw) {
		return buildFile(raw), nil
	}
	return yamlFile(raw)
}

// looksLikeBuild reports whether the first word that counts is one that build files begin
// with.
func looksLikeBuild(raw []byte) bool {
	for line := range strings.Lines(string(raw)) {
		words := strings.Fields(line)
		if len(words) == 0 || strings.HasPrefix(words[0], "#") {
			continue
		}
		return slices.Contains([]string{"FROM", "ARG"}, strings.ToUpper(words[0])) && !strings.HasSuffix(words[0], ":")
	}
	return false
}

// Change is another text for a place.
type Change struct {
	Found
	To string
}

// Write returns the file with other texts in places that Find returned.
func Write(raw []byte, changes []Change) []byte {
	changes = slices.Clone(changes)
	slices.SortFunc(changes, func(a, b Change) int { return a.Start - b.Start })
	var out bytes.Buffer
	at := 0
	for _, c := range changes {
		if c.Start < at {
			// The same place twice.
			continue
		}
		out.Write(raw[at:c.Start])
		out.WriteString(c.To)
		at = c.End
	}
	out.Write(raw[at:])
	return out.Bytes()
}

// numbered puts places in order, each once, and gives them their lines.
func numbered(raw []byte, all []Found) []Found {
	slices.SortStableFunc(all, func(a, b Found) int { return a.Start - b.Start })
	all = slices.CompactFunc(all, func(a, b Found) bool { return a.Start == b.Start && a.End == b.End })
	line, at := 1, 0
	for i := range all {
		line += bytes.Count(raw[at:all[i].Start], []byte{'\n'})
		at = all[i].Start
		all[i].Line = line
	}
	return all
}

// Read reads a text as one that stands where a reference belongs.
func Read(text string) Found { return found([]byte(text), 0, len(text)) }

// found reads a text that stands where a reference belongs.
func found(raw []byte, start, end int) Found {
	f := Found{Start: start, End: end, Text: string(raw[start:end])}
	switch {
	case strings.Contains(f.Text, "$"):
		f.Skip = "it has a variable in it, whose value is not known here"
		return f
	case strings.Contains(f.Text, "{{"):
		f.Skip = "it is a template, whose value is not known here"
		return f
	}
	text := f.Text
	ref, err := oci.ParseReference(text)
	if err != nil && !strings.Contains(strings.SplitN(text, "/", 2)[0], ".") && !strings.HasPrefix(text, "localhost/") {
		// It names no registry: it is read as if it did.
		const some = "registry.invalid/"
		if ref, err = oci.ParseReference(some + text); err == nil {
			f.Bare, ref.Registry = true, ""
		}
	}
	if err != nil {
		f.Skip = "it is no reference: " + err.Error()
		return f
	}
	f.Ref = ref
	return f
}

// Pinned returns the text of a reference with a digest: what stood there, with another
// digest, and the tag that was meant where none was written.
func (f Found) Pinned(digest oci.Digest) string {
	text, _, _ := strings.Cut(f.Text, "@")
	if f.Ref.Tag == "" && f.Ref.Digest == "" {
		text += ":" + DefaultTag
	}
	return text + "@" + digest.String()
}

// DefaultTag is what engines mean where no tag is written.
const DefaultTag = "latest"
