// Package work does what goes on beside requests: it knows the kinds of work there
// are, begins them when a schedule, an event or somebody says so, one of a kind and
// place at a time, keeps their progress and their end in the records, stops them, and
// goes on with them after a crash.
//
// It promises that requests win: a run that breathes where it is told to has a tenth
// of the time while requests are served, and all of it otherwise. What a run does is
// the business of the room that registers its kind.
package work
