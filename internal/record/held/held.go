// Package held measures how long the writer of the records is held: there is one, and
// all that changes anything waits for it.
package held

import (
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"warthesis/internal/record/turns"
)

// Times are how long changes and commits held the writer. They are safe for concurrent
// use.
type Times struct {
	changes *prometheus.HistogramVec
	commits prometheus.Histogram
	waits   prometheus.Histogram
}

// New returns times without any.
func New() Times {
	bounds := []float64{.0001, .00025, .0005, .001, .002, .005, .01, .025, .05, .1, .25, 1, 5}
	return Times{
		changes: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: "warthesis_records_change_seconds", Help: "How long one change held the writer of the records, by kind of change, without its part of the commit.", Buckets: bounds,
		}, []string{"change"}),
		commits: prometheus.NewHistogram(prometheus.HistogramOpts{
			Name: "warthesis_records_commit_seconds", Help: "How long a commit held the writer of the records; changes that wait together share one.", Buckets: bounds,
		}),
		waits: prometheus.NewHistogram(prometheus.HistogramOpts{
			Name: "warthesis_records_wait_on_quiet_seconds", Help: "The longest that a change waited each time that a quiet one held the writer, as sweeps have them.", Buckets: bounds,
		}),
	}
}

// Change notes a change of a kind that ends now, without its part of the commit.
func (h Times) Change(kind string, began time.Time) {
	h.changes.WithLabelValues(kind).Observe(time.Since(began).Seconds())
}

// Commit notes a commit that ends now.
func (h Times) Commit(began time.Time) { h.commits.Observe(time.Since(began).Seconds()) }

// Waited notes how others waited for a quiet change.
func (h Times) Waited(w turns.Waited) {
	if w.Turns > 0 {
		h.waits.Observe(w.Longest.Seconds())
	}
}

// Metrics are the times as figures.
func (h Times) Metrics() []prometheus.Collector {
	return []prometheus.Collector{h.changes, h.commits, h.waits}
}
