package worth

import (
	"maps"
	"math"
	"slices"
	"time"
)

// Day is what goes on a day to come.
type Day struct {
	// Served is the moment of the run, in served time.
	Served  int64
	Goes    []Finding
	TooMuch []TooMuchOf
	// All are all findings, of the first day alone.
	All []Finding
}

// Days returns what goes now and on each of so many days to come, if a run judges each day at
// the same hour and nothing but time happens; lists of what is in use that are fresh now stay
// so. What goes is gone from the repository then. It returns nothing where it was told to
// stop.
func (r *Repository) Days(t Terms, days int) []Day {
	t.Waits = maps.Clone(t.Waits)
	if t.Waits == nil {
		t.Waits = map[Wait]int64{}
	}
	inUse := make(map[string]*InUse, len(t.InUse))
	for name, list := range t.InUse {
		if list.StaleServed > t.Served {
			list = &InUse{StaleServed: math.MaxInt64, Entries: list.Entries}
		}
		inUse[name] = list
	}
	t.InUse = inUse
	all := make([]Day, 0, days+1)
	for d := range days + 1 {
		j := r.Judge(t)
		if j.Stopped {
			return nil
		}
		day := Day{Served: t.Served, TooMuch: j.TooMuch}
		if d == 0 {
			day.All = j.Findings
		}
		for _, f := range j.Findings {
			if f.Goes {
				day.Goes = append(day.Goes, f)
			}
		}
		for _, of := range j.TooMuch {
			t.Waits[of.Wait] = t.Served + t.Wait
		}
		r.Go(j.Findings, t.Served)
		all = append(all, day)
		t.Served += int64(24 * time.Hour)
	}
	return all
}

// Clone returns a repository of its own, to be looked at on days to come.
func (r *Repository) Clone() *Repository {
	c := *r
	c.Images, c.Tags = slices.Clone(r.Images), slices.Clone(r.Tags)
	return &c
}
