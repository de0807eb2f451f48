package worth

import (
	"encoding/json"
	"iter"
	"slices"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/rule"
)

func (r *Repository) facts(tag, image int, t Terms) *rule.RetentionFacts {
	m := &r.Images[image]
	since := func(moments ...int64) time.Duration { return time.Duration(t.Served - slices.Max(moments)) }
	f := &rule.RetentionFacts{
		Name: rule.Name{Repository: r.Name}, Age: since(m.PushedServed), Arrival: m.ID,
		Pulled: since(m.lastPull, m.PushedServed), Pushed: since(m.PushedServed, m.AgainServed), Untagged: since(m.UntaggedServed, m.PushedServed),
		Size: m.ContentSize, Types: m.types(), Labels: r.labels(image),
	}
	if tag >= 0 {
		has := &r.Tags[tag]
		f.Tag, f.Order, f.Pushed, f.Untagged = has.Name, has.OrderKey, since(has.MovedServed, has.PushedServed), 0
	}
	return f
}

// pulled finds when an image or something that it names was last pulled.
func (r *Repository) pulled(image int) int64 {
	m := &r.Images[image]
	if m.asked {
		return m.lastPull
	}
	m.asked, m.lastPull = true, m.PulledServed
	for _, child := range m.children {
		m.lastPull = max(m.lastPull, r.pulled(child))
	}
	return m.lastPull
}

// types are the words for what an image is.
func (m *Image) types() []string {
	all := []string{m.MediaType}
	if m.ArtifactType != "" {
		all = append(all, m.ArtifactType)
	}
	if oci.IsImageConfig(m.ArtifactType) || oci.IsIndex(m.MediaType) && m.Platforms != "" {
		all = append(all, "image")
	}
	if oci.IsIndex(m.MediaType) {
		all = append(all, "index")
	}
	return all
}

// labels are those of an image and of its children, and of the repository.
func (r *Repository) labels(image int) iter.Seq[string] {
	return func(yield func(string) bool) {
		for name, value := range r.Labels {
			if !yield(name + "=" + value) {
				return
			}
		}
		for _, i := range append([]int{image}, r.Images[image].children...) {
			for _, label := range r.Images[i].ownLabels() {
				if !yield(label) {
					return
				}
			}
		}
	}
}

// ownLabels are those of an image itself, which are read once.
func (m *Image) ownLabels() []string {
	if m.labels == nil {
		m.labels = []string{}
		for _, raw := range []string{m.Annotations, m.Labels} {
			var some map[string]string
			// What is not there has none.
			if raw != "" && json.Unmarshal([]byte(raw), &some) == nil {
				for name, value := range some {
					m.labels = append(m.labels, name+"="+value)
				}
			}
		}
	}
	return m.labels
}
