package worth

import (
	"slices"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/rule"
)

// CountsFor is how long what left a list of what is in use counts as in use still.
const CountsFor = 30 * 24 * time.Hour

// InUse is a list of what is in use somewhere.
type InUse struct {
	// StaleServed is from when, in served time, the list counts as stale, unless it is
	// refreshed.
	StaleServed int64
	Entries     []Used
}

// Used is a reference that is in use: a tag or a digest of a repository here, or, without a
// repository, a digest wherever it is.
type Used struct {
	Repository oci.Name
	Tag        oci.Tag
	Digest     oci.Digest
	// LeftServed is since when it is not in the list any more, 0 while it is.
	LeftServed int64
}

// Stale returns the lists of what is in use that the rules ask, and that are not there or
// count as stale.
func (t Terms) Stale() (names []string) {
	for _, list := range t.Retention {
		for _, name := range list.InUseLists() {
			if in := t.InUse[name]; in == nil || in.StaleServed <= t.Served {
				names = append(names, name)
			}
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// counts reports whether an entry counts at a moment.
func (u Used) counts(served int64) bool {
	return u.LeftServed == 0 || u.LeftServed+int64(CountsFor) > served
}

// uses are the images that each list names, with the indexes around them; nil for a list
// that is not known or stale.
type uses map[string]map[int]bool

func (r *Repository) uses(t Terms) uses {
	if len(t.InUse) == 0 {
		return nil
	}
	tags, digests := make(map[oci.Tag]int, len(r.Tags)), make(map[oci.Digest]int, len(r.Images))
	for i := range r.Tags {
		if !r.Tags[i].gone {
			tags[r.Tags[i].Name] = r.Tags[i].image
		}
	}
	for i := range r.Images {
		if !r.Images[i].gone {
			digests[r.Images[i].Digest] = i
		}
	}
	all := uses{}
	for name, list := range t.InUse {
		if list.StaleServed <= t.Served {
			continue
		}
		named := map[int]bool{}
		all[name] = named
		for _, u := range list.Entries {
			if !u.counts(t.Served) || u.Repository != "" && u.Repository != r.Name {
				continue
			}
			image, there := digests[u.Digest]
			if u.Digest == "" {
				image, there = tags[u.Tag]
			}
			if there {
				r.use(image, named)
			}
		}
	}
	return all
}

// use notes an image, and the indexes that name it.
func (r *Repository) use(image int, named map[int]bool) {
	if named[image] {
		return
	}
	named[image] = true
	for _, parent := range r.Images[image].parents {
		if !r.Images[parent].gone {
			r.use(parent, named)
		}
	}
}

// of answers of an image whether a list names it.
func (u uses) of(image int) func(string) rule.Use {
	return func(list string) rule.Use {
		named, known := u[list]
		switch {
		case !known:
			return rule.UseUnknown
		case named[image]:
			return rule.InUse
		}
		return rule.NotInUse
	}
}
