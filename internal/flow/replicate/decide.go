package replicate

import (
	"warthesis/internal/oci"
	"warthesis/internal/rule"
)

// facts are what is known of a tag on both sides; "" is that there is none.
type facts struct {
	// source is where the rule copies from, target where it copies to, agreed what both last
	// agreed on.
	source, target, agreed oci.Digest
	// behind tells that the source's tag pointed to what the target has since both agreed, or
	// ever where they did not.
	behind bool
	// sourceWins and targetWins are how the rule decides conflicts.
	sourceWins, targetWins bool
	// forced tells that the target is overwritten whatever it has.
	forced bool
}

// action is what is to be done about a tag.
type action int

const (
	// equal: both sides have the same.
	equal action = iota
	// send: the target gets what the source has.
	send
	// leave: the target moved on, or removed it, since both agreed; that is its business.
	leave
	// clash: both sides moved the tag.
	clash
	// gone: the source has no such tag.
	gone
)

// decide says what is to be done about a tag. What is on one side alone since both agreed
// travels; what changed on both is a conflict, unless the log of the source's tag says that
// the target has what it pointed to since.
func decide(f facts) action {
	switch {
	case f.source == "":
		return gone
	case f.source == f.target:
		return equal
	case f.forced:
		return send
	case f.target == "" && f.agreed == f.source:
		return leave
	case f.target == "" || f.agreed == f.target:
		return send
	case f.agreed == f.source && f.agreed != "":
		return leave
	case f.behind:
		return send
	case f.sourceWins:
		return send
	case f.targetWins:
		return leave
	}
	return clash
}

// wins says which side a rule lets win: ours is always the registry's whose rule it is.
func wins(r rule.Replication) (source, target bool) {
	ours, theirs := r.Conflicts == rule.Ours, r.Conflicts == rule.Theirs
	if r.From != "" {
		return theirs, ours
	}
	return ours, theirs
}
