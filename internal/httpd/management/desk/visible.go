package desk

import (
	"context"

	"warthesis/internal/access"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// Visible refuses whoever may not pull from a repository as if there were none.
func (d *Desk) Visible(ctx context.Context, name oci.Name) error {
	caller := callers.From(ctx)
	v, err := d.Access.Verdict(ctx, caller, name, access.Pull)
	if err != nil || v.Allowed {
		return err
	}
	if caller.Nobody() {
		return oci.Errorf(oci.CodeUnauthorized, "not logged in: only what anybody may pull is shown without a login")
	}
	e := caller.Event(record.EventRefused)
	e.Repository, e.Detail = name, v.Reason
	d.Access.Refused(e, access.Pull)
	return NoRepository(name)
}

// NoRepository is what is said of a repository that is not there or not to be known of.
func NoRepository(name oci.Name) error {
	return oci.Errorf(oci.CodeNameUnknown, "there is no repository %s here; it is made by the first push to it", name)
}

// Seen returns what the caller may see in lists.
func (d *Desk) Seen(ctx context.Context) record.Seen { return d.Access.Seen(callers.From(ctx)) }
