package rule

import (
	"errors"
	"fmt"
	"strconv"
	"unicode/utf8"
)

// Value is what stands behind a key of a rule.
type Value struct {
	line    int
	text    string
	all     []string
	several bool
	verb    string
}

// Verb is what the rule does that has the value.
func (v Value) Verb() string { return v.verb }

// All are the values, one or several, at least one and at most MostPatterns.
func (v Value) All() ([]string, error) {
	if len(v.all) == 0 || len(v.all) > MostPatterns {
		return nil, fmt.Errorf("a list has 1 to %d values, and this one %d", MostPatterns, len(v.all))
	}
	return v.all, nil
}

// One is the value, where a list will not do.
func (v Value) One() (string, error) { return v.one() }

func (v Value) fault(format string, args ...any) error {
	return &Fault{Line: v.line, Message: fmt.Sprintf(format, args...)}
}

// Patterns reads one pattern or a list of them.
func (v Value) Patterns() (Patterns, error) {
	if len(v.all) == 0 {
		return nil, v.fault("the list of patterns is empty; write at least one, as in \"*\"")
	}
	if len(v.all) > MostPatterns {
		return nil, v.fault("a rule has at most %d patterns in a list, and this one %d", MostPatterns, len(v.all))
	}
	patterns := make(Patterns, len(v.all))
	for i, text := range v.all {
		var err error
		if patterns[i], err = ParsePattern(text); err != nil {
			return nil, v.fault("%s", err)
		}
	}
	return patterns, nil
}

func (v Value) one() (string, error) {
	if v.several {
		return "", errors.New("one value is wanted, not a list")
	}
	return v.text, nil
}

// Span reads a span of time.
func (v Value) Span() (Span, error) {
	text, err := v.one()
	if err != nil {
		return 0, err
	}
	return ParseSpan(text)
}

// Size reads a number of bytes.
func (v Value) Size() (Size, error) {
	text, err := v.one()
	if err != nil {
		return 0, err
	}
	return ParseSize(text)
}

// Count reads a whole number above zero.
func (v Value) Count() (int, error) {
	text, err := v.one()
	if err != nil {
		return 0, err
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > 1_000_000_000 {
		return 0, fmt.Errorf("%q is no count; write a whole number, 1 or more", text)
	}
	return n, nil
}

// Truth reads true or false.
func (v Value) Truth() (bool, error) {
	if v.text != "true" && v.text != "false" || v.several {
		return false, v.fault("%q is neither true nor false", v.text)
	}
	return v.text == "true", nil
}

func (v Value) sentence() (string, error) {
	text, err := v.one()
	if err != nil {
		return "", v.fault("because: %s", err)
	}
	text = oneLine(text)
	if n := utf8.RuneCountInString(text); n == 0 || n > MostBecause {
		return "", v.fault("because says why in 1 to %d characters, and this has %d", MostBecause, n)
	}
	return text, nil
}
