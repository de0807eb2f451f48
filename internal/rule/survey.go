package rule

import (
	"fmt"
	"math/rand/v2"
	"slices"
)

// Ranking puts the things of one repository in an order, so that rules can mean the newest
// few of what they mean otherwise.
type Ranking[F Named] struct {
	// Orders are the words for the orders that there are; rules that say none mean the first.
	Orders []string
	// Group returns what counts as one with other things: a number from 0, below that of
	// the things.
	Group func(F) int
	// Compare is below zero where a is newer than b in an order. It is zero for no two
	// things of two groups.
	Compare func(order string, a, b F) int
}

// Survey is all things of one repository with the lists that stand around it. It is read
// by one goroutine.
type Survey[F Named] struct {
	things []F
	names  []asked
	lists  []List[F]
	// chosen tells, of rules that mean the newest few, which things those are.
	chosen map[at][]bool
	stop   func() bool
}

// at is where a rule stands.
type at struct{ list, rule int }

// NewSurvey asks the lists that stand around a repository of all that is in it. Things that
// Ranking.Group counts as one are told apart by their names.
func NewSurvey[F Named](things []F, lists ...List[F]) *Survey[F] {
	return NewSurveyUntil(nil, things, lists...)
}

// NewSurveyUntil is NewSurvey that asks now and then whether to stop, which it does soon: what
// it says then is of no use.
func NewSurveyUntil[F Named](stop func() bool, things []F, lists ...List[F]) *Survey[F] {
	s := &Survey[F]{things: things, names: make([]asked, len(things)), lists: inOrder(lists), chosen: map[at][]bool{}, stop: stop}
	for i, thing := range things {
		s.names[i].Name = thing.RuleName()
		if ordered, is := any(thing).(interface{ RuleOrder() []byte }); is {
			s.names[i].version, s.names[i].release = keyKinds(ordered.RuleOrder())
			s.names[i].versionKnown = true
		}
	}
	for l, list := range s.lists {
		for r, rule := range list.Rules {
			if rule.newest > 0 && !s.Stopped() {
				s.chosen[at{l, r}] = s.newest(rule)
			}
		}
	}
	return s
}

// Stopped reports whether it was told to stop.
func (s *Survey[F]) Stopped() bool { return s.stop != nil && s.stop() }

// meant returns the things that a rule means, but for how many it means.
func (s *Survey[F]) meant(r Rule[F]) []int {
	all := make([]int, 0, len(s.things))
	for i, thing := range s.things {
		if r.means(thing, &s.names[i]) {
			all = append(all, i)
		}
	}
	return all
}

// leaders returns of each group the thing that stands first in the order of a rule.
func (s *Survey[F]) leaders(r Rule[F], meant []int) []int {
	first := make([]int, len(s.things))
	for i := range first {
		first[i] = -1
	}
	var groups []int
	for _, i := range meant {
		g := r.ranking.Group(s.things[i])
		switch {
		case first[g] < 0:
			first[g] = i
			groups = append(groups, g)
		case r.ranking.Compare(r.by, s.things[i], s.things[first[g]]) < 0:
			first[g] = i
		}
	}
	for k, g := range groups {
		groups[k] = first[g]
	}
	return groups
}

// newest tells which things are of the groups that a rule means.
func (s *Survey[F]) newest(r Rule[F]) []bool {
	meant := s.meant(r)
	leaders := s.leaders(r, meant)
	in := make([]bool, len(s.things))
	for _, i := range first(leaders, r.newest, func(a, b int) int { return r.ranking.Compare(r.by, s.things[a], s.things[b]) }) {
		in[r.ranking.Group(s.things[i])] = true
	}
	chosen := make([]bool, len(s.things))
	for _, i := range meant {
		chosen[i] = in[r.ranking.Group(s.things[i])]
	}
	return chosen
}

// first returns the n that stand first of all in an order, in whatever order: it parts
// them again and again, by chance, which takes a time that grows with their number alone,
// whatever they are called.
func first(all []int, n int, compare func(a, b int) int) []int {
	if n >= len(all) {
		return all
	}
	from, to := 0, len(all)
	for to-from > 1 {
		pivot := near(all[from:to], n-from, compare)
		i, j := from, to-1
		for i <= j {
			for compare(all[i], pivot) < 0 {
				i++
			}
			for compare(all[j], pivot) > 0 {
				j--
			}
			if i <= j {
				all[i], all[j] = all[j], all[i]
				i, j = i+1, j-1
			}
		}
		switch {
		case n <= j:
			to = j + 1
		case n >= i:
			from = i
		default:
			return all[:n]
		}
	}
	return all[:n]
}

// near returns one of all by chance, of many one that stands a little behind the n-th: most
// of what is behind it is then out at once.
func near(all []int, n int, compare func(a, b int) int) int {
	if len(all) < 1000 {
		return all[rand.IntN(len(all))]
	}
	var some [64]int
	for i := range some {
		some[i] = all[rand.IntN(len(all))]
	}
	slices.SortFunc(some[:], compare)
	return some[min(n*len(some)/len(all)+2, len(some)-1)]
}

// means reports whether a rule means a thing, by its number.
func (s *Survey[F]) means(l, r, thing int) bool {
	if chosen, ranked := s.chosen[at{l, r}]; ranked {
		return chosen[thing]
	}
	return s.lists[l].Rules[r].means(s.things[thing], &s.names[thing])
}

// Verdict is what the lists say of a thing, by its number: the binding rules of the registry
// first, then the lists of the repository, of the namespace and of the registry. In each the
// first rule that means it decides.
func (s *Survey[F]) Verdict(thing int) Verdict {
	for _, binding := range []bool{true, false} {
		for l, list := range s.lists {
			for r := range list.Rules {
				if (list.Rules[r].Binding && list.Level == OfRegistry) == binding && s.means(l, r, thing) {
					return list.verdict(r)
				}
			}
		}
	}
	return Verdict{}
}

// Explain returns the rules around a thing, by its number, in the order in which they are
// asked, and why each decides or does not.
func (s *Survey[F]) Explain(thing int) []Answer {
	var all []Answer
	decided := false
	for _, binding := range []bool{true, false} {
		for l, list := range s.lists {
			for r, rule := range list.Rules {
				if (rule.Binding && list.Level == OfRegistry) != binding {
					continue
				}
				a := Answer{Verdict: list.verdict(r), Level: list.Level}
				switch {
				case decided:
					a.Why = "a rule before it decides"
				case s.means(l, r, thing):
					a.Decides, decided = true, true
				default:
					a.Why = s.whyNot(rule, thing)
				}
				all = append(all, a)
			}
		}
	}
	return all
}

func (s *Survey[F]) whyNot(r Rule[F], thing int) string {
	if why := r.whyNot(s.things[thing], &s.names[thing]); why != "" {
		return why
	}
	leaders := s.leaders(r, s.meant(r))
	mine := slices.IndexFunc(leaders, func(i int) bool { return r.ranking.Group(s.things[i]) == r.ranking.Group(s.things[thing]) })
	before := 0
	for _, i := range leaders {
		if r.ranking.Compare(r.by, s.things[i], s.things[leaders[mine]]) < 0 {
			before++
		}
	}
	return fmt.Sprintf("newest: %d does not hold; by %s it is number %d of %d", r.newest, r.by, before+1, len(leaders))
}
