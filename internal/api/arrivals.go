package api

import (
	"encoding/json"
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
	ID         int64           `json:"id"`
	Kind       string          `json:"kind" doc:"copy, parcel or import"`
	Name       string          `json:"name"`
	Source     string          `json:"source,omitempty"`
	By         string          `json:"by"`
	State      string          `json:"state" doc:"going, waiting for more, done, failed or stopped"`
	BeganAt    time.Time       `json:"began_at"`
	HeardAt    time.Time       `json:"heard_at" doc:"When it last told how far it is"`
	EndedAt    *time.Time      `json:"ended_at,omitempty"`
	HeldFor    int64           `json:"held_for,omitempty" doc:"For how many seconds what came is kept from sweeps if nothing more is heard, about, while the service runs; absent once it is over"`
	Images     int64           `json:"images"`
	ImagesDone int64           `json:"images_done"`
	Lacks      int64           `json:"lacks" doc:"Images that cannot be had"`
	Bytes      int64           `json:"bytes"`
	BytesDone  int64           `json:"bytes_done"`
	Rate       int64           `json:"rate,omitempty" doc:"Bytes a second"`
	EndsIn     *int64          `json:"ends_in,omitempty" doc:"In how many seconds it ends at that rate; absent where that cannot be told"`
	Says       string          `json:"says,omitempty" doc:"How it stands, in a sentence"`
	Places     []oci.Name      `json:"places,omitempty" doc:"The repositories that it holds open; told where one is asked for"`
	Report     json.RawMessage `json:"report,omitempty" doc:"What became of each image; told where one is asked for"`
}

// ArrivalList is what is carried in, that under way first, then the newest.
type ArrivalList struct {
	Arrivals []Arrival `json:"arrivals" nullable:"false"`
}

// TellArrival tells how far an arrival is; it is waited for anew from now on.
type TellArrival struct {
	ImagesDone int64           `json:"images_done" minimum:"0"`
	Lacks      int64           `json:"lacks" minimum:"0"`
	Bytes      int64           `json:"bytes" minimum:"0"`
	BytesDone  int64           `json:"bytes_done" minimum:"0"`
	Rate       int64           `json:"rate,omitempty" minimum:"0"`
	State      string          `json:"state" enum:"going,waiting,done,failed,stopped"`
	Says       string          `json:"says,omitempty" maxLength:"1000"`
	Report     json.RawMessage `json:"report,omitempty"`
}
