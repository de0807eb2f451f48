package replicate

import (
	"context"
	"log/slog"
	"time"

	"github.com/prometheus/client_golang/prometheus"
)

var (
	lagFigure   = prometheus.NewDesc("warthesis_replication_lag_seconds", "The age of the oldest thing that is due by a replication rule, in time that the service runs.", []string{"rule"}, nil)
	dueFigure   = prometheus.NewDesc("warthesis_replication_due", "Tags and digests that are to travel by a replication rule, by how it stands with them.", []string{"rule", "state"}, nil)
	bytesFigure = prometheus.NewDesc("warthesis_replication_bytes_total", "Bytes that traveled by a replication rule since the service started.", []string{"rule"}, nil)
	imageFigure = prometheus.NewDesc("warthesis_replication_images_total", "Images that traveled by a replication rule since the service started.", []string{"rule"}, nil)
)

// figuresWithin is how long figures may take to be gathered.
const figuresWithin = 5 * time.Second

// Describe tells of the figures.
func (r *Replicator) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{lagFigure, dueFigure, bytesFigure, imageFigure} {
		to <- d
	}
}

// Collect gathers the figures.
func (r *Replicator) Collect(to chan<- prometheus.Metric) {
	ctx, end := context.WithTimeout(r.ctx, figuresWithin)
	defer end()
	for _, a := range r.inForce() {
		sums, err := r.records.View(ctx).Replication().Of(a.row.ID)
		if err != nil {
			slog.Debug("replication: figures could not be gathered", "rule", a.row.Name, "error", err)
			return
		}
		to <- prometheus.MustNewConstMetric(lagFigure, prometheus.GaugeValue, r.lag(sums).Seconds(), a.row.Name)
		for state, n := range map[string]int64{"due": sums.Due + sums.Places, "failing": sums.Failing, "conflict": sums.Conflicts, "waits": sums.Waits, "asks": sums.Asks} {
			to <- prometheus.MustNewConstMetric(dueFigure, prometheus.GaugeValue, float64(n), a.row.Name, state)
		}
		bytes, images := a.meter.totals()
		to <- prometheus.MustNewConstMetric(bytesFigure, prometheus.CounterValue, float64(bytes), a.row.Name)
		to <- prometheus.MustNewConstMetric(imageFigure, prometheus.CounterValue, float64(images), a.row.Name)
	}
}
