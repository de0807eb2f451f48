package rule

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"iter"
	"regexp"
	"slices"
	"strings"
	"time"
)

// What a retention rule does with what it means.
const (
	// Keep lets a tag, or an image without one, stay, whatever rules behind say.
	Keep = "keep"
	// Drop lets it go.
	Drop = "drop"
)

// Use is whether a list of what is in use names an image.
type Use int

const (
	NotInUse Use = iota
	InUse
	// UseUnknown: there is no such list, or nobody refreshed it lately.
	UseUnknown
)

// RetentionFacts is what retention rules ask of a tag or, without one, of an image that no
// tag, index or subject keeps. Spans are served time.
type RetentionFacts struct {
	Name
	// Image numbers the image in its repository, from 0 and below the number of things that
	// are asked about.
	Image int
	// Order sorts the tag among versions, as OrderKey has it.
	Order []byte
	// Age is since the image first came here, Arrival tells apart those that came at once:
	// the later has the greater number.
	Age     time.Duration
	Arrival int64
	// Pulled is since the image was last pulled or, where it never was, since it came.
	Pulled time.Duration
	// Pushed is since the tag last moved or was pushed; without a tag, since the image was.
	Pushed time.Duration
	// Untagged is since the last tag, index or subject left the image; 0 of a tag.
	Untagged time.Duration
	// Size is that of all that a full pull brings, in bytes.
	Size int64
	// Types are the words for what it is: image, index, its media type and artifact type.
	Types []string
	// Labels are those of its config, its annotations, and the labels of its repository, as
	// NAME=VALUE; nil for none.
	Labels iter.Seq[string]
	// Used says of a list by its name whether it names the image; nil for none.
	Used func(list string) Use
}

// RuleName returns the name that patterns are asked of.
func (f *RetentionFacts) RuleName() Name { return f.Name }

// RuleOrder returns the order of the tag, which tells what kind of a version it is.
func (f *RetentionFacts) RuleOrder() []byte { return f.Order }

// The orders of the newest.
const (
	ByVersion = "version"
	ByPush    = "push"
)

// Retention are the rules that let go of what is not worth keeping.
var Retention = Kind[*RetentionFacts]{
	Name:    "retention",
	Example: "drop: \"*:<commit>\"\n  older_than: 6w",
	Verbs:   []string{Keep, Drop},
	Conditions: map[string]ReadCondition[*RetentionFacts]{
		// last_pull, last_push: that was less, or more, than a span ago.
		"last_pull": ago(func(f *RetentionFacts) time.Duration { return f.Pulled }),
		"last_push": ago(func(f *RetentionFacts) time.Duration { return f.Pushed }),
		// older_than: the image came here that long ago.
		"older_than": func(v Value) (Condition[*RetentionFacts], error) {
			span, err := v.Span()
			return func(f *RetentionFacts) bool { return f.Age >= span.Duration() }, err
		},
		// untagged_for: no tag, index or subject has kept the image for that long.
		"untagged_for": func(v Value) (Condition[*RetentionFacts], error) {
			span, err := v.Span()
			return func(f *RetentionFacts) bool { return f.Tag == "" && f.Untagged >= span.Duration() }, err
		},
		"in_use": inUse,
		// larger_than: a full pull brings more.
		"larger_than": func(v Value) (Condition[*RetentionFacts], error) {
			size, err := v.Size()
			return func(f *RetentionFacts) bool { return f.Size > int64(size) }, err
		},
		"type":  isOfType,
		"label": hasLabel,
	},
	Ranking: &Ranking[*RetentionFacts]{
		Orders: []string{ByVersion, ByPush},
		Group:  func(f *RetentionFacts) int { return f.Image },
		Compare: func(order string, a, b *RetentionFacts) int {
			if order == ByVersion {
				if c := bytes.Compare(versionOf(b), versionOf(a)); c != 0 {
					return c
				}
			}
			return cmp.Or(cmp.Compare(a.Age, b.Age), cmp.Compare(b.Arrival, a.Arrival))
		},
	},
}

// versionOf is the order of a version; all that is none comes before, and is alike.
func versionOf(f *RetentionFacts) []byte {
	if len(f.Order) == 0 || f.Order[0] == otherTag {
		return nil
	}
	return f.Order
}

// ago reads "< 90d" and "> 90d".
func ago(since func(*RetentionFacts) time.Duration) ReadCondition[*RetentionFacts] {
	return func(v Value) (Condition[*RetentionFacts], error) {
		text, err := v.One()
		if err != nil {
			return nil, err
		}
		span, err := ParseSpan(strings.TrimSpace(strings.TrimLeft(text, "<> ")))
		switch {
		case err == nil && strings.HasPrefix(text, "<") && strings.Count(text, "<") == 1 && !strings.Contains(text, ">"):
			return func(f *RetentionFacts) bool { return since(f) < span.Duration() }, nil
		case err == nil && strings.HasPrefix(text, ">") && strings.Count(text, ">") == 1 && !strings.Contains(text, "<"):
			return func(f *RetentionFacts) bool { return since(f) > span.Duration() }, nil
		}
		return nil, fmt.Errorf(`%.70q says neither less nor more than a span of time ago; write "< 90d" or "> 90d", in quotes`, text)
	}
}

// inUse reads the names of lists of what is in use. What is not known keeps: a rule that
// keeps means all that such a list could name, one that drops nothing.
func inUse(v Value) (Condition[*RetentionFacts], error) {
	names, err := v.All()
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		if err := CheckListName(name); err != nil {
			return nil, err
		}
	}
	keeps := v.Verb() == Keep
	return func(f *RetentionFacts) bool {
		return slices.ContainsFunc(names, func(name string) bool {
			use := UseUnknown
			if f.Used != nil {
				use = f.Used(name)
			}
			return use == InUse || use == UseUnknown && keeps
		})
	}, nil
}

// InUseLists returns the names of the lists of what is in use that a retention list asks.
func (l List[F]) InUseLists() []string {
	var names []string
	for _, r := range l.Rules {
		for _, c := range r.conditions {
			if c.key == "in_use" {
				names = append(names, c.values...)
			}
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// LabelNames returns the names of the labels that a retention list asks for, each up to its
// first =.
func (l List[F]) LabelNames() []string {
	var names []string
	for _, r := range l.Rules {
		for _, c := range r.conditions {
			if c.key != "label" {
				continue
			}
			for _, text := range c.values {
				name, _, _ := strings.Cut(text, "=")
				names = append(names, name)
			}
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// typeText is what a type is written with: a word or a media type, * for any text.
var typeText = regexp.MustCompile(`^[A-Za-z0-9!#$&^_.+*/-]{1,255}$`)

func isOfType(v Value) (Condition[*RetentionFacts], error) {
	all, err := v.All()
	if err != nil {
		return nil, err
	}
	patterns := make([]compiled, len(all))
	for i, text := range all {
		if !typeText.MatchString(text) {
			return nil, fmt.Errorf("%.70q is no type; write image, index, or the media type of a config or an artifact, with * for any text", text)
		}
		patterns[i] = compile(text)
	}
	return func(f *RetentionFacts) bool {
		return slices.ContainsFunc(f.Types, func(is string) bool {
			return slices.ContainsFunc(patterns, func(p compiled) bool { return p.matches(is) })
		})
	}, nil
}

// MostLabel bounds what is asked of labels, in bytes.
const MostLabel = 512

func hasLabel(v Value) (Condition[*RetentionFacts], error) {
	all, err := v.All()
	if err != nil {
		return nil, err
	}
	patterns := make([]compiled, len(all))
	for i, text := range all {
		name, _, has := strings.Cut(text, "=")
		if name == "" || strings.Contains(name, "*") || len(text) > MostLabel {
			return nil, errors.New("a label is NAME for any value, or NAME=VALUE with * for any text in the value")
		}
		if !has {
			text += "=*"
		}
		patterns[i] = compile(text)
	}
	return func(f *RetentionFacts) bool {
		if f.Labels == nil {
			return false
		}
		for is := range f.Labels {
			if slices.ContainsFunc(patterns, func(p compiled) bool { return p.matches(is) }) {
				return true
			}
		}
		return false
	}, nil
}

// Widens reports whether a list could let more go than one before it: it does not where
// rules that keep came, or rules that drop went, and all else is as it was.
func Widens(before, after List[*RetentionFacts]) bool {
	is := after.Rules
	for _, was := range before.Rules {
		at := slices.IndexFunc(is, func(r Rule[*RetentionFacts]) bool { return r.same(was) || r.Verb != Keep })
		switch {
		case at >= 0 && is[at].same(was):
			is = is[at+1:]
		case was.Verb != Drop:
			return true
		}
	}
	return slices.ContainsFunc(is, func(r Rule[*RetentionFacts]) bool { return r.Verb != Keep })
}

func (r Rule[F]) same(other Rule[F]) bool {
	return r.Words == other.Words && r.Binding == other.Binding
}

// Drops reports whether a rule of the list lets anything go.
func (l List[F]) Drops() bool {
	return slices.ContainsFunc(l.Rules, func(r Rule[F]) bool { return r.Verb == Drop })
}
