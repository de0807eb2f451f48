package api

import (
	"time"

	"warthesis/internal/oci"
)

// ArrivalPlace is a repository into which something is carried.
type ArrivalPlace struct {
	Repository oci.Name `json:"repository"`
	Bytes      int64    `json:"bytes" minimum:"0" doc:"What it lacks, about"`
}

// MakeArrival announces what is carried in by list: while it is open, no sweep takes what came
// and waits for the rest of its image.
type MakeArrival struct {
	Kind   string         `json:"kind" enum:"copy,parcel"`
	Name   string         `json:"name" minLength:"1" maxLength:"500" doc:"What the list or the parcel is called"`
	Source string         `json:"source,omitempty" maxLength:"500" doc:"Where it comes from"`
	Images int64          `json:"images" minimum:"0"`
	Places []ArrivalPlace `json:"places" maxItems:"20000" nullable:"false"`
	Days   int            `json:"days" minimum:"1" maximum:"14" doc:"How long it is waited for after it was last heard of"`
	Ask    bool           `json:"ask,omitempty" doc:"Only ask whether there is room for it"`
}

// ArrivalAnswer is what comes of it.
type ArrivalAnswer struct {
	Lacks   []string `json:"lacks" nullable:"false" doc:"For what there is no room, each in a sentence; empty where it fits"`
	Arrival *Arrival `json:"arrival,omitempty" doc:"Absent where it was only asked"`
}

// Arrival is what is carried in by list: a copy, a parcel, or an import.
type Arrival struct {
	ID         int64       `json:"id"`
	Kind       string      `json:"kind" doc:"copy, parcel or import"`
	Name       string      `json:"name"`
	Source     string      `json:"source,omitempty"`
	By         string      `json:"by"`
	State      string      `json:"state" doc:"going, waiting for more, done, failed or stopped"`
	BeganAt    time.Time   `json:"began_at"`
	HeardAt    time.Time   `json:"heard_at" doc:"When it last told how far it is"`
	EndedAt    *time.Time  `json:"ended_at,omitempty"`
	HeldFor    int64       `json:"held_for,omitempty" doc:"For how many seconds what came is kept from sweeps if nothing more is heard, about, while the service runs; absent once it is over"`
	Images     int64       `json:"images"`
	ImagesDone int64       `json:"images_done"`
	Lacks      int64       `json:"lacks" doc:"Images that cannot be had"`
	Bytes      int64       `json:"bytes"`
	BytesDone  int64       `json:"bytes_done"`
	Rate       int64       `json:"rate,omitempty" doc:"Bytes a second"`
	EndsIn     *int64      `json:"ends_in,omitempty" doc:"In how many seconds it ends at that rate; absent where that cannot be told"`
	Says       string      `json:"says,omitempty" doc:"How it stands, in a sentence"`
	Places     []oci.Name  `json:"places,omitempty" doc:"The repositories that it holds open; told where one is asked for"`
	Report     *CopyReport `json:"report,omitempty" doc:"What became of each image; told where one is asked for, of a copy or a parcel"`
}

// ArrivalList is what is carried in, that under way first, then the newest.
type ArrivalList struct {
	Arrivals []Arrival `json:"arrivals" nullable:"false"`
}

// TellArrival tells how far an arrival is; it is waited for anew from now on.
type TellArrival struct {
	ImagesDone int64       `json:"images_done" minimum:"0"`
	Lacks      int64       `json:"lacks" minimum:"0"`
	Bytes      int64       `json:"bytes" minimum:"0"`
	BytesDone  int64       `json:"bytes_done" minimum:"0"`
	Rate       int64       `json:"rate,omitempty" minimum:"0"`
	State      string      `json:"state" enum:"going,waiting,done,failed,stopped"`
	Says       string      `json:"says,omitempty" maxLength:"1000"`
	Report     *CopyReport `json:"report,omitempty"`
}

// CopyReport is what a copy, or the unloading of a parcel, came to.
type CopyReport struct {
	List        string        `json:"list,omitempty" maxLength:"4096"`
	Destination string        `json:"destination" maxLength:"4096"`
	Began       time.Time     `json:"began"`
	GoesOn      *time.Time    `json:"goes_on_since,omitempty" doc:"When the copy began that this run went on with"`
	Ended       time.Time     `json:"ended"`
	Complete    bool          `json:"complete" doc:"All of it was asked for again at the end, and is there by digest"`
	Images      []CopiedImage `json:"images" nullable:"false" maxItems:"100000"`
	Totals      CopyTotals    `json:"totals"`
}

// CopyTotals are its sums, in images and in bytes.
type CopyTotals struct {
	Images       int   `json:"images"`
	There        int   `json:"already_there"`
	Copied       int   `json:"copied"`
	Lacks        int   `json:"lacks"`
	Bytes        int64 `json:"bytes"`
	New          int64 `json:"new" doc:"What the destination lacked before"`
	Sent         int64 `json:"sent"`
	BytesASecond int64 `json:"bytes_a_second,omitempty"`
}

// CopiedImage is how one image fared.
type CopiedImage struct {
	Source    string     `json:"source" maxLength:"1024"`
	Target    string     `json:"target" maxLength:"1024"`
	Digest    oci.Digest `json:"digest,omitempty" maxLength:"140"`
	State     string     `json:"state" maxLength:"40"`
	Was       oci.Digest `json:"was,omitempty" maxLength:"140" doc:"What its tag pointed to before"`
	Bytes     int64      `json:"bytes"`
	New       int64      `json:"new"`
	Referrers int        `json:"referrers,omitempty"`
	Why       string     `json:"why,omitempty" maxLength:"8192"`
	Instead   []string   `json:"instead,omitempty" maxItems:"10"`
}
