package pin

import (
	"bytes"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// word is a word of an instruction, and where it stands.
type word struct {
	start, end int
	text       string
}

// from returns the part of a word behind its first n bytes.
func (w word) from(n int) word { return word{w.start + n, w.end, w.text[n:]} }

// unquoted takes one pair of quotes around a word away.
func (w word) unquoted() word {
	if n := len(w.text); n >= 2 && (w.text[0] == '"' || w.text[0] == '\'') && w.text[n-1] == w.text[0] {
		return word{w.start + 1, w.end - 1, w.text[1 : n-1]}
	}
	return w
}

// build is a build file as it is read.
type build struct {
	raw    []byte
	at     int
	escape byte
	// args are the defaults of arguments before the first stage, by name.
	args   map[string]word
	stages map[string]bool
	staged bool
	found  []Found
	// taken are the arguments whose defaults were found already.
	taken map[string]bool
}

var directive = regexp.MustCompile(`^\s*#\s*([A-Za-z]+)\s*=\s*(\S+)\s*$`)

// buildFile finds references in FROM, COPY and ADD --from, RUN --mount from, the syntax
// directive, and defaults of arguments that a FROM names as a whole.
func buildFile(raw []byte) []Found {
	b := &build{raw: raw, escape: '\\', args: map[string]word{}, stages: map[string]bool{}, taken: map[string]bool{}}
	b.at = len(raw) - len(bytes.TrimPrefix(raw, []byte("\xef\xbb\xbf")))
	b.directives()
	for b.at < len(raw) {
		if words := b.instruction(); len(words) > 0 {
			b.instruct(words)
		}
	}
	return numbered(raw, b.found)
}

// line returns where the line that begins at a place ends, its line end left out, and where
// the next one begins.
func (b *build) line(at int) (end, next int) {
	n := bytes.IndexByte(b.raw[at:], '\n')
	if n < 0 {
		return len(b.raw), len(b.raw)
	}
	end, next = at+n, at+n+1
	if end > at && b.raw[end-1] == '\r' {
		end--
	}
	return end, next
}

// directives reads the comments at the top that say how the file is read.
func (b *build) directives() {
	for b.at < len(b.raw) {
		end, next := b.line(b.at)
		m := directive.FindSubmatchIndex(b.raw[b.at:end])
		if m == nil {
			return
		}
		value := word{b.at + m[4], b.at + m[5], string(b.raw[b.at+m[4] : b.at+m[5]])}
		switch strings.ToLower(string(b.raw[b.at+m[2] : b.at+m[3]])) {
		case "syntax":
			b.add(value)
		case "escape":
			if len(value.text) == 1 {
				b.escape = value.text[0]
			}
		}
		b.at = next
	}
}

// instruction returns the words of the next instruction, which may run over several lines,
// and goes past it.
func (b *build) instruction() (words []word) {
	for b.at < len(b.raw) {
		end, next := b.line(b.at)
		line := b.raw[b.at:end]
		trimmed := bytes.TrimLeft(line, " \t")
		if len(trimmed) == 0 || trimmed[0] == '#' {
			// Comments and empty lines do not end an instruction.
			b.at = next
			if len(words) == 0 {
				return nil
			}
			continue
		}
		stop := bytes.TrimRight(line, " \t")
		goesOn := len(stop) > 0 && stop[len(stop)-1] == b.escape
		if goesOn {
			stop = stop[:len(stop)-1]
		}
		words = append(words, split(stop, b.at)...)
		b.at = next
		if !goesOn {
			break
		}
	}
	b.skipDocuments(words)
	return words
}

// split returns the words of a line that begins at a place; quotes hold a word together.
func split(line []byte, at int) (words []word) {
	start, quote := -1, byte(0)
	for i := 0; i <= len(line); i++ {
		blank := i == len(line) || quote == 0 && (line[i] == ' ' || line[i] == '\t')
		switch {
		case blank && start >= 0:
			words = append(words, word{at + start, at + i, string(line[start:i])})
			start = -1
		case blank:
		default:
			if start < 0 {
				start = i
			}
			switch {
			case quote != 0 && line[i] == quote:
				quote = 0
			case quote == 0 && (line[i] == '"' || line[i] == '\''):
				quote = line[i]
			}
		}
	}
	return words
}

var document = regexp.MustCompile(`<<(-?)["']?([A-Za-z_][A-Za-z0-9_]*)["']?`)

// skipDocuments goes past the texts that an instruction has behind it, up to their ends.
func (b *build) skipDocuments(words []word) {
	if len(words) == 0 || !slices.Contains([]string{"RUN", "COPY", "ADD"}, instructionOf(words)) {
		return
	}
	for _, w := range words[1:] {
		for _, m := range document.FindAllStringSubmatch(w.text, -1) {
			for b.at < len(b.raw) {
				end, next := b.line(b.at)
				line := string(b.raw[b.at:end])
				b.at = next
				if m[1] == "-" {
					line = strings.TrimLeft(line, "\t")
				}
				if line == m[2] {
					break
				}
			}
		}
	}
}

func instructionOf(words []word) string { return strings.ToUpper(words[0].text) }

func (b *build) instruct(words []word) {
	if instructionOf(words) == "ONBUILD" {
		if words = words[1:]; len(words) == 0 {
			return
		}
	}
	rest := words[1:]
	switch instructionOf(words) {
	case "ARG":
		for _, w := range rest {
			if name, _, has := strings.Cut(w.text, "="); has && !b.staged {
				b.args[name] = w.from(len(name) + 1).unquoted()
			}
		}
	case "FROM":
		b.from(rest)
	case "COPY", "ADD":
		for _, w := range rest {
			if value, is := strings.CutPrefix(w.text, "--from="); is {
				b.stageOrImage(w.from(len(w.text) - len(value)).unquoted())
			}
		}
	case "RUN":
		for _, w := range rest {
			if value, is := strings.CutPrefix(w.text, "--mount="); is {
				b.mount(w.from(len(w.text) - len(value)))
			}
		}
	}
}

func (b *build) mount(w word) {
	at := 0
	for _, option := range strings.Split(w.text, ",") {
		if value, is := strings.CutPrefix(option, "from="); is {
			b.stageOrImage(word{w.start + at + len("from="), w.start + at + len(option), value})
		}
		at += len(option) + 1
	}
}

// from reads what a stage begins with.
func (b *build) from(rest []word) {
	b.staged = true
	for len(rest) > 0 && strings.HasPrefix(rest[0].text, "--") {
		rest = rest[1:]
	}
	if len(rest) == 0 {
		return
	}
	b.stageOrImage(rest[0].unquoted())
	if len(rest) >= 3 && strings.EqualFold(rest[1].text, "AS") {
		b.stages[strings.ToLower(rest[2].text)] = true
	}
}

// variable is a reference that is one variable and nothing else; a default may stand in it.
var variable = regexp.MustCompile(`^\$(?:([A-Za-z_][A-Za-z0-9_]*)|\{([A-Za-z_][A-Za-z0-9_]*)\})$`)

// stageOrImage adds what is named, unless it is a stage of this file.
func (b *build) stageOrImage(w word) {
	_, err := strconv.Atoi(w.text)
	if w.text == "" || strings.EqualFold(w.text, "scratch") || b.stages[strings.ToLower(w.text)] || err == nil {
		return
	}
	m := variable.FindStringSubmatch(w.text)
	if m == nil {
		b.add(w)
		return
	}
	name := m[1] + m[2]
	value, known := b.args[name]
	switch {
	case b.taken[name]:
	case known && value.text != "":
		b.taken[name] = true
		b.stageOrImage(value)
	default:
		b.add(w)
	}
}

func (b *build) add(w word) { b.found = append(b.found, found(b.raw, w.start, w.end)) }
