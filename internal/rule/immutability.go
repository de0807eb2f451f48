package rule

import "time"

// What an immutability rule does with the tags that it means.
const (
	// Seal lets a tag neither move nor go.
	Seal = "seal"
	// Free lets a tag move, whatever rules behind say.
	Free = "free"
)

// TagFacts is what immutability rules ask of a tag.
type TagFacts struct {
	Name
	// Since is how long the tag has pointed where it points, in served time.
	Since time.Duration
}

// RuleName returns the name that patterns are asked of.
func (f TagFacts) RuleName() Name { return f.Name }

// Immutability are the rules that seal tags by their names.
var Immutability = Kind[TagFacts]{
	Name:    "immutability",
	Example: `seal: "*:<version>"`,
	Verbs:   []string{Seal, Free},
	Conditions: map[string]ReadCondition[TagFacts]{
		// after: the tag has pointed where it points for that long.
		"after": func(v Value) (Condition[TagFacts], error) {
			span, err := v.Span()
			return func(f TagFacts) bool { return f.Since >= span.Duration() }, err
		},
	},
}
