package rule

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"warthesis/internal/oci"
)

// Kind is one kind of rules: what a rule of it can do, and under which conditions. F is
// what is known of a thing when it is decided. Adding a kind is a file of this package.
type Kind[F Named] struct {
	// Name is what people call the rules, as in "immutability".
	Name string
	// Example is a first rule, for messages.
	Example string
	// Verbs are what a rule can do, in the order in which they are explained.
	Verbs []string
	// Conditions are what a rule may ask of a thing beside its name.
	Conditions map[string]ReadCondition[F]
	// Ranking lets rules mean the newest few; nil for kinds that decide of each thing alone.
	Ranking *Ranking[F]
}

// Named is what has a name that patterns are asked of.
type Named interface{ RuleName() Name }

// Condition reports whether something holds of a thing.
type Condition[F Named] func(F) bool

// ReadCondition reads the value of a condition; it says how the value is to be written
// where it is wrong.
type ReadCondition[F Named] func(Value) (Condition[F], error)

// Rule is one rule of a list. A thing is meant that one of its patterns speaks of, none
// of its exceptions does, and all its conditions hold of.
type Rule[F Named] struct {
	Verb     string
	Patterns Patterns
	Except   Patterns
	// Because is what people are told, "" for nothing.
	Because string
	// Binding rules of the registry are asked before all others.
	Binding bool
	// Words is the rule as it was written, in one line.
	Words string
	// Line is where it begins in its list, from 1.
	Line int
	// Use names a list whose rules stand here; such a rule has nothing else.
	Use string
	// Of and Number are where it stands, where that is a named list.
	Of     string
	Number int

	// Acts is from when, in served time, the named list acts from which the rule came.
	Acts time.Duration

	conditions []condition[F]
	// newest is how many of what it means it is about, 0 for all; by is in which order.
	newest  int
	by      string
	ranking *Ranking[F]
}

// condition is a condition with its words.
type condition[F Named] struct {
	key, words string
	values     []string
	holds      Condition[F]
}

func (r Rule[F]) means(thing F, by *asked) bool {
	return r.Patterns.match(by) && !r.Except.match(by) && !slices.ContainsFunc(r.conditions, func(c condition[F]) bool { return !c.holds(thing) })
}

// Level is where a list stands.
type Level int

// The levels, in the order in which their lists are asked.
const (
	OfRepository Level = iota
	OfNamespace
	OfRegistry
	// OfName is a list that has a name and stands where others use it.
	OfName
)

// List is rules in their order, of one place.
type List[F Named] struct {
	Level Level
	// Of is what the place is called, as in "the namespace timetable".
	Of    string
	Rules []Rule[F]
	// ID is the number of the list, 0 for one that is not set.
	ID int64
	// Acts is from when, in served time, what the list says is done, and Widened when it, or
	// one that it uses, was last given more to take; 0 for kinds of rules that do not wait.
	Acts, Widened time.Duration
}

// MostUses bounds the named lists that one list uses.
const MostUses = 10

// Uses lists the names of the lists that this one uses, in order.
func (l List[F]) Uses() []string {
	var names []string
	for _, r := range l.Rules {
		if r.Use != "" {
			names = append(names, r.Use)
		}
	}
	return names
}

// Reaches reports whether a rule of the list speaks of anything in a repository.
func (l List[F]) Reaches(repository oci.Name) bool {
	return slices.ContainsFunc(l.Rules, func(r Rule[F]) bool {
		return slices.ContainsFunc(r.Patterns, func(p Pattern) bool { return p.repository.matches(string(repository)) })
	})
}

// With returns the list with the rules of the lists it uses in their places.
func (l List[F]) With(named map[string]List[F]) List[F] {
	whole := List[F]{Level: l.Level, Of: l.Of, ID: l.ID, Acts: l.Acts, Widened: l.Widened}
	for i, r := range l.Rules {
		if r.Use == "" {
			r.Number = i + 1
			whole.Rules = append(whole.Rules, r)
			continue
		}
		whole.Widened = max(whole.Widened, named[r.Use].Widened)
		for n, used := range named[r.Use].Rules {
			used.Of, used.Number = "the list "+r.Use, n+1
			used.Acts = named[r.Use].Acts
			whole.Rules = append(whole.Rules, used)
		}
	}
	return whole
}

// verdict is what the rule at a place says.
func (l List[F]) verdict(i int) Verdict {
	r := l.Rules[i]
	v := Verdict{
		Verb: r.Verb, Of: l.Of, Number: i + 1, Words: r.Words, Because: r.Because,
		List: l.ID, Acts: max(l.Acts, r.Acts), Widened: l.Widened,
	}
	if r.Number != 0 {
		v.Number = r.Number
	}
	if r.Of != "" {
		v.Of = r.Of + " (used by " + l.Of + ")"
	}
	return v
}

// Verdict is what the rules say of a thing. The zero value is that none speaks of it.
type Verdict struct {
	// Verb is what the rule does, "" where nothing decides.
	Verb string
	// Of is the place of the list, Number that of the rule in it, from 1.
	Of      string
	Number  int
	Words   string
	Because string
	// List is the number of the list of the place, Acts from when the rule acts, in served
	// time, and Widened when it or its list was last given more to take.
	List          int64
	Acts, Widened time.Duration
}

// Decided reports whether a rule speaks of the thing.
func (v Verdict) Decided() bool { return v.Verb != "" }

// String says which rule decides, in its own words.
func (v Verdict) String() string {
	if !v.Decided() {
		return "no rule speaks of it"
	}
	said := fmt.Sprintf("rule %d of %s says: %s", v.Number, v.Of, v.Words)
	if v.Because != "" {
		said += " (" + v.Because + ")"
	}
	return said
}

// Decide asks the lists that stand around a thing: the binding rules of the registry,
// then the lists of the repository, of the namespace and of the registry, in whatever
// order they are given. In each the first rule that means the thing decides.
func Decide[F Named](thing F, lists ...List[F]) Verdict {
	by := &asked{Name: thing.RuleName()}
	ordered := inOrder(lists)
	for _, binding := range []bool{true, false} {
		for _, list := range ordered {
			if v := list.decide(thing, by, binding); v.Decided() {
				return v
			}
		}
	}
	return Verdict{}
}

func inOrder[F Named](lists []List[F]) []List[F] {
	ordered := slices.Clone(lists)
	slices.SortStableFunc(ordered, func(a, b List[F]) int { return int(a.Level) - int(b.Level) })
	return ordered
}

func (l List[F]) decide(thing F, by *asked, binding bool) Verdict {
	for i, r := range l.Rules {
		if (r.Binding && l.Level == OfRegistry) == binding && r.means(thing, by) {
			return l.verdict(i)
		}
	}
	return Verdict{}
}

// allowed lists the keys that a rule may have, for messages.
func (k Kind[F]) allowed(level Level) []string {
	var conditions []string
	for name := range k.Conditions {
		conditions = append(conditions, name)
	}
	slices.Sort(conditions)
	keys := append(append(slices.Clone(k.Verbs), conditions...), "except", "because")
	if k.Ranking != nil {
		keys = append(keys, "newest", "by")
	}
	if level != OfName {
		keys = append(keys, "use")
	}
	if level == OfRegistry {
		keys = append(keys, "binding")
	}
	return keys
}

// oneLine keeps a rule's words from running over several lines.
func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }
