package record

import (
	"time"

	"github.com/prometheus/client_golang/prometheus"
)

// held measures how long changes hold the writer, of which there is one: all that
// changes anything waits for it.
type held struct {
	changes *prometheus.HistogramVec
	commits prometheus.Histogram
}

func newHeld() held {
	bounds := []float64{.0001, .00025, .0005, .001, .002, .005, .01, .025, .05, .1, .25, 1, 5}
	return held{
		changes: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: "warthesis_records_change_seconds", Help: "How long one change held the writer of the records, by kind of change, without its part of the commit.", Buckets: bounds,
		}, []string{"change"}),
		commits: prometheus.NewHistogram(prometheus.HistogramOpts{
			Name: "warthesis_records_commit_seconds", Help: "How long a commit held the writer of the records; changes that wait together share one.", Buckets: bounds,
		}),
	}
}

func (h held) change(kind string, began time.Time) {
	h.changes.WithLabelValues(kind).Observe(time.Since(began).Seconds())
}

func (h held) commit(began time.Time) { h.commits.Observe(time.Since(began).Seconds()) }

// Metrics are the figures of the records.
func (s *Store) Metrics() []prometheus.Collector {
	return []prometheus.Collector{s.held.changes, s.held.commits}
}
