package carry

import (
	"context"
	"io"
	"time"

	"warthesis/internal/oci"
)

// Gauge measures how fast a destination takes bytes: it sends some and lets them go again.
type Gauge interface {
	TryBytes(ctx context.Context, name oci.Name, bytes int) (time.Duration, error)
}

// What is measured with, and for how long at most.
const (
	gaugeBytes = 2 << 20
	gaugeTime  = 5 * time.Second
)

// Measure returns how many bytes a second go from the source of a plan to its destination, by
// reading a piece of the largest blob that goes, and sending as much. It is zero where it
// cannot be told.
func (c *Carrier) Measure(ctx context.Context, p *Plan) int64 {
	var of *Image
	var largest oci.Descriptor
	p.needs(func(i *Image, d oci.Descriptor) {
		if c.blobOf(d).isNew() && d.Size > largest.Size {
			of, largest = i, d
		}
	})
	if of == nil {
		return 0
	}
	within, cancel := context.WithTimeout(ctx, gaugeTime)
	defer cancel()
	began := time.Now()
	body, _, err := of.from.OpenBlob(within, of.Item.Ref.Name, largest, 0)
	if err != nil {
		return 0
	}
	// What came until the time was over counts as well.
	n, _ := io.CopyN(io.Discard, body, gaugeBytes)
	body.Close()
	rate := perSecond(n, time.Since(began))
	if gauge, is := c.o.To.(Gauge); is && rate > 0 {
		if took, err := gauge.TryBytes(within, of.Name, gaugeBytes); err == nil {
			rate = min(rate, perSecond(gaugeBytes, took))
		}
	}
	if c.o.Limit != nil {
		rate = min(rate, int64(c.o.Limit.Limit()))
	}
	return rate
}

func perSecond(bytes int64, took time.Duration) int64 {
	if took <= 0 || bytes == 0 {
		return 0
	}
	return int64(float64(bytes) / took.Seconds())
}
