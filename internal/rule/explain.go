package rule

import (
	"fmt"
	"slices"
)

// Answer is one rule as it was asked of a thing.
type Answer struct {
	Verdict
	// Level is that of the list in which the rule stands.
	Level Level
	// Decides tells of the one rule that does; all behind it are not asked.
	Decides bool
	// Why says why a rule that was asked does not decide.
	Why string
}

// Explain returns the rules around a thing in the order in which they are asked, and why
// each decides or does not.
func Explain[F Named](thing F, lists ...List[F]) []Answer {
	var all []Answer
	by := &asked{Name: thing.RuleName()}
	decided := false
	for _, binding := range []bool{true, false} {
		for _, list := range inOrder(lists) {
			for i, r := range list.Rules {
				if (r.Binding && list.Level == OfRegistry) != binding {
					continue
				}
				s := Answer{Verdict: list.verdict(i), Level: list.Level}
				switch {
				case decided:
					s.Why = "a rule before it decides"
				case r.means(thing, by):
					s.Decides, decided = true, true
				default:
					s.Why = r.whyNot(thing, by)
				}
				all = append(all, s)
			}
		}
	}
	return all
}

// whyNot says why a rule does not mean a thing.
func (r Rule[F]) whyNot(thing F, by *asked) string {
	if !r.Patterns.match(by) {
		if !slices.ContainsFunc(r.Patterns, func(p Pattern) bool { return p.repository.matches(string(by.Repository)) }) {
			return "it speaks of other repositories"
		}
		return "it speaks of other tags"
	}
	for i := range r.Except {
		if r.Except[i].matches(by) {
			return fmt.Sprintf("it excepts %q", r.Except[i].text)
		}
	}
	for _, c := range r.conditions {
		if !c.holds(thing) {
			return c.words + " does not hold"
		}
	}
	return ""
}
