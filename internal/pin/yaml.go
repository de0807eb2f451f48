package pin

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"
)

// mostDepth bounds how deep a document is gone into.
const mostDepth = 200

// containers are the keys under which a list of containers stands.
var containers = []string{"containers", "initContainers", "ephemeralContainers"}

// yamlFile finds the image of each container of cluster manifests, lists of them included,
// and of each service of compose files.
func yamlFile(raw []byte) ([]Found, error) {
	r := &reader{raw: raw, starts: lineStarts(raw)}
	decoder := yaml.NewDecoder(bytes.NewReader(raw))
	for {
		doc, err := decode(decoder)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("it is no YAML: %w", err)
		}
		if len(doc.Content) > 0 {
			r.compose(doc.Content[0])
			r.walk(doc.Content[0], mostDepth)
		}
	}
	return numbered(raw, r.found), nil
}

// decode lets no input end the program.
func decode(d *yaml.Decoder) (doc yaml.Node, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("it cannot be read (%v)", r)
		}
	}()
	return doc, d.Decode(&doc)
}

type reader struct {
	raw    []byte
	starts []int
	found  []Found
}

func lineStarts(raw []byte) []int {
	starts := []int{0}
	for i, c := range raw {
		if c == '\n' {
			starts = append(starts, i+1)
		}
	}
	return starts
}

// pairs calls each for the entries of a mapping.
func pairs(n *yaml.Node, each func(key string, value *yaml.Node)) {
	if n.Kind != yaml.MappingNode {
		return
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		each(n.Content[i].Value, n.Content[i+1])
	}
}

// compose finds the images of services.
func (r *reader) compose(n *yaml.Node) {
	pairs(n, func(key string, services *yaml.Node) {
		if key != "services" {
			return
		}
		pairs(aliased(services), func(_ string, service *yaml.Node) { r.image(aliased(service)) })
	})
}

// walk finds the images of containers, at any depth.
func (r *reader) walk(n *yaml.Node, depth int) {
	if depth == 0 {
		return
	}
	pairs(n, func(key string, value *yaml.Node) {
		if slices.Contains(containers, key) && aliased(value).Kind == yaml.SequenceNode {
			for _, container := range aliased(value).Content {
				r.image(aliased(container))
			}
		}
	})
	for _, child := range n.Content {
		r.walk(child, depth-1)
	}
}

// aliased returns what an alias stands for.
func aliased(n *yaml.Node) *yaml.Node {
	if n.Kind == yaml.AliasNode && n.Alias != nil {
		return n.Alias
	}
	return n
}

// image adds the image of a container or a service.
func (r *reader) image(n *yaml.Node) {
	pairs(n, func(key string, value *yaml.Node) {
		if value = aliased(value); key == "image" && value.Kind == yaml.ScalarNode && value.Value != "" {
			r.add(value)
		}
	})
}

// property is an anchor or a tag before a value.
var property = regexp.MustCompile(`^[&!]\S*[ \t]*(\r?\n[ \t]*)?`)

// add adds a value, where its text stands in the file as it means.
func (r *reader) add(n *yaml.Node) {
	at, ok := r.place(n.Line, n.Column)
	if !ok {
		return
	}
	for m := property.Find(r.raw[at:]); m != nil; m = property.Find(r.raw[at:]) {
		at += len(m)
	}
	switch {
	case n.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0:
		at++
	case n.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0:
		// The text is on a line behind the mark.
		if next := bytes.IndexByte(r.raw[at:], '\n'); next >= 0 {
			at += next + 1
			at += len(r.raw[at:]) - len(bytes.TrimLeft(r.raw[at:], " \t\r\n"))
		}
	}
	text := strings.TrimRight(n.Value, "\n")
	if !bytes.HasPrefix(r.raw[at:], []byte(text)) {
		r.found = append(r.found, Found{Start: at, End: at, Text: n.Value, Skip: "it is written in a way that is not changed here; write it plainly on one line"})
		return
	}
	r.found = append(r.found, found(r.raw, at, at+len(text)))
}

// place returns where a line and a column are, both from 1; columns count characters.
func (r *reader) place(line, column int) (int, bool) {
	if line < 1 || line > len(r.starts) {
		return 0, false
	}
	at := r.starts[line-1]
	if line == 1 && bytes.HasPrefix(r.raw, []byte("\xef\xbb\xbf")) {
		at += 3
	}
	for range column - 1 {
		_, size := utf8.DecodeRune(r.raw[at:])
		if size == 0 {
			return 0, false
		}
		at += size
	}
	return at, true
}
