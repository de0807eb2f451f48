package access

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/seals"
)

// Removing is why a place is removed.
type Removing struct {
	// Reason is for the list of removals, "" for none.
	Reason string
	// OverSeals is the reason of an admin who goes over the seals in it, "" for nobody.
	OverSeals string
}

// CheckReason refuses a reason that is too long and, where it must be there, an empty one.
func CheckReason(reason string, must bool) error {
	switch {
	case must && strings.TrimSpace(reason) == "":
		return oci.Errorf(oci.CodeQueryInvalid, "a reason is missing: say why, for the audit log")
	case utf8.RuneCountInString(reason) > mostReason:
		return oci.Errorf(oci.CodeQueryInvalid, "the reason has %d characters; at most %d are allowed", utf8.RuneCountInString(reason), mostReason)
	}
	return nil
}

func (r Removing) by(c Caller) record.Actor {
	by := c.Actor()
	by.Reason = strings.TrimSpace(r.Reason)
	if r.OverSeals != "" {
		by.Reason = strings.TrimPrefix(by.Reason+", over seals: "+r.OverSeals, ", ")
	}
	return by
}

// judgedTries is how often seals are looked at again where they change meanwhile.
const judgedTries = 5

// staying runs a change by which no place goes.
func staying(do func(seals.Leave) error) error { return do(seals.Leave{}) }

// leaving runs a change by which a place goes, or is called otherwise, once no tag in it
// was found to be sealed; an admin may go over seals, which the event tells of.
func (a *Access) leaving(ctx context.Context, c Caller, in record.Repository, over string, e *record.Event) func(do func(seals.Leave) error) error {
	return func(do func(seals.Leave) error) error {
		if over != "" {
			if err := errors.Join(a.Admin(c, "go over seals"), CheckReason(over, true)); err != nil {
				return err
			}
			e.Detail = strings.TrimPrefix(e.Detail+", over seals: "+over, ", ")
			return do(seals.Leave{Over: over})
		}
		for try := 1; ; try++ {
			judged, err := a.records.Judge(ctx, in)
			if err != nil {
				return err
			}
			err = do(seals.Leave{Judged: judged})
			switch again := errors.Is(err, seals.ErrJudgeAgain); {
			case again && try < judgedTries:
				continue
			case again:
				return oci.Errorf(oci.CodeTooManyRequests, "the rules or the repositories of %s change all the time; try again when they rest", in.Name)
			}
			return a.sealedInWords(in.Name, judged, err)
		}
	}
}

// sealedInWords says which seals keep a place.
func (a *Access) sealedInWords(place oci.Name, judged seals.Judged, err error) error {
	var sealed *seals.Sealed
	if !errors.As(err, &sealed) {
		return err
	}
	more := ""
	if judged.Count > 1 {
		more = fmt.Sprintf(", and %d more tags there", judged.Count-1)
	}
	return oci.Errorf(oci.CodeDenied, "%s: %s%s. So %s stays as it is; unseal them first, or ask a registry admin, who can go over seals with a reason", sealed, a.records.WhySealed(sealed), more, place)
}
