package worth

import (
	"slices"

	"warthesis/internal/oci"
	"warthesis/internal/rule"
)

// LastPull is when an image or something that it names was last pulled.
func (m *Image) LastPull() int64 { return m.lastPull }

// ImageOf is the image that a tag points to, by its place.
func (r *Repository) ImageOf(tag int) *Image { return &r.Images[r.Tags[tag].image] }

// Find returns the places of a tag by its name, or of an image by its digest, -1 for none. An
// image that has tags is found by the first of them.
func (r *Repository) Find(target string) (tag, image int) {
	if tag = slices.IndexFunc(r.Tags, func(t Tag) bool { return string(t.Name) == target }); tag >= 0 {
		return tag, r.Tags[tag].image
	}
	image = slices.IndexFunc(r.Images, func(m Image) bool { return string(m.Digest) == target })
	if image >= 0 && len(r.Images[image].tags) > 0 {
		return r.Images[image].tags[0], image
	}
	return -1, image
}

// Imagine adds a tag, on an image of its own, that comes just now, and returns its place.
func (r *Repository) Imagine(name oci.Tag, served int64) (tag int) {
	r.Images = append(r.Images, Image{
		MediaType: oci.MediaTypeImage, ArtifactType: oci.MediaTypeConfig, PushedServed: served, TouchedServed: served, subject: -1, tags: []int{len(r.Tags)},
	})
	r.Tags = append(r.Tags, Tag{Name: name, OrderKey: rule.OrderKey(string(name)), MovedServed: served, FirstServed: served, image: len(r.Images) - 1})
	return len(r.Tags) - 1
}

// KeptBy returns an index or a subject that keeps an image, "" for none.
func (r *Repository) KeptBy(image int) oci.Digest {
	m := &r.Images[image]
	for _, parent := range m.parents {
		if !r.Images[parent].gone {
			return r.Images[parent].Digest
		}
	}
	if m.subject >= 0 {
		return r.Images[m.subject].Digest
	}
	return ""
}

// Roots are the images that stand for themselves: those with a tag, and those that no index
// and no subject keeps.
func (r *Repository) Roots() (roots []int) {
	for i := range r.Images {
		if m := &r.Images[i]; len(m.tags) > 0 || !r.kept(m) {
			roots = append(roots, i)
		}
	}
	return roots
}

// Closure is an image with all that hangs on it: children, and what refers to any of them.
func (r *Repository) Closure(image int) []int {
	all := []int{image}
	seen := map[int]bool{image: true}
	for at := 0; at < len(all); at++ {
		m := &r.Images[all[at]]
		for _, next := range slices.Concat(m.children, m.referrers) {
			if !seen[next] {
				seen[next] = true
				all = append(all, next)
			}
		}
	}
	return all
}

// NamesOf are the tags of an image, in order.
func (r *Repository) NamesOf(image int) (names []oci.Tag) {
	for _, i := range r.Images[image].tags {
		names = append(names, r.Tags[i].Name)
	}
	return names
}
