package carry

import (
	"time"

	"warthesis/internal/oci"
)

// Report is what a copy, or an unloading, came to. It is written as JSON.
type Report struct {
	List        string    `json:"list,omitempty"`
	Destination string    `json:"destination"`
	Began       time.Time `json:"began"`
	// GoesOn is when the copy began that this run went on with.
	GoesOn *time.Time `json:"goes_on_since,omitempty"`
	Ended  time.Time  `json:"ended"`
	// Complete tells that all was asked for again at the destination, and is there.
	Complete bool          `json:"complete"`
	Images   []ImageReport `json:"images"`
	Totals   Totals        `json:"totals"`
}

// Totals are the sums of a report, sizes in bytes.
type Totals struct {
	Images int `json:"images"`
	There  int `json:"already_there"`
	Copied int `json:"copied"`
	Lacks  int `json:"lacks"`
	// Bytes is what all images have, each blob once; New what the destination lacked before;
	// Sent what went there.
	Bytes        int64 `json:"bytes"`
	New          int64 `json:"new"`
	Sent         int64 `json:"sent"`
	BytesASecond int64 `json:"bytes_a_second,omitempty"`
}

// ImageReport is how one image fared.
type ImageReport struct {
	Source string     `json:"source"`
	Target string     `json:"target"`
	Digest oci.Digest `json:"digest,omitempty"`
	State  State      `json:"state"`
	// Was is what the tag pointed to at the destination before.
	Was       oci.Digest `json:"was,omitempty"`
	Bytes     int64      `json:"bytes"`
	New       int64      `json:"new"`
	Referrers int        `json:"referrers,omitempty"`
	Why       string     `json:"why,omitempty"`
	// Instead are tags that are there where the one that was meant is not.
	Instead []string `json:"instead,omitempty"`
}

// Report reports on the images of a plan as they stand.
func (p *Plan) Report() Report {
	r := Report{Images: []ImageReport{}, Totals: Totals{Images: len(p.Images), Bytes: p.Bytes, New: p.New}}
	for _, i := range p.Images {
		one := ImageReport{
			Source: i.Item.Ref.String(), Target: i.Target(), Digest: i.Root.Digest, State: i.State, Bytes: i.Bytes, New: i.New,
			Referrers: i.Referrers, Instead: i.Instead,
		}
		if i.Root.Digest == "" {
			one.Target = string(i.Name)
			if i.Item.Tag != "" {
				one.Target += ":" + string(i.Item.Tag)
			}
		}
		if i.Was != i.Root.Digest {
			one.Was = i.Was
		}
		if i.Err != nil {
			one.Why = i.Err.Error()
		}
		switch {
		case i.Lacks():
			r.Totals.Lacks++
		case i.State == There:
			r.Totals.There++
		case i.State == Copied:
			r.Totals.Copied++
		}
		r.Totals.Sent += i.Sent
		r.Images = append(r.Images, one)
	}
	return r
}
