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
	return d.NoRepository(ctx, name)
}

// May refuses, and logs, where the caller lacks one of the rights in a repository; one
// that it may not know of is refused as if there were none.
func (d *Desk) May(ctx context.Context, name oci.Name, actions ...access.Action) error {
	caller := callers.From(ctx)
	for _, action := range actions {
		v, err := d.Access.Verdict(ctx, caller, name, action)
		if err != nil {
			return err
		}
		if v.Allowed {
			continue
		}
		if caller.Nobody() {
			return oci.Errorf(oci.CodeUnauthorized, "%s", v.Reason)
		}
		e := caller.Event(record.EventRefused)
		e.Repository, e.Detail = name, v.Reason
		d.Access.Refused(e, action)
		if !v.Known {
			return d.NoRepository(ctx, name)
		}
		return oci.Errorf(oci.CodeDenied, "%s", v.Reason)
	}
	return nil
}

// NoRepository is what is said of a repository that is not there or not to be known of.
// Whoever may push there may know of it, and is told how it comes about.
func (d *Desk) NoRepository(ctx context.Context, name oci.Name) error {
	if d.Access.RoleIn(callers.From(ctx), name).Rank() >= record.Writer.Rank() {
		return oci.Errorf(oci.CodeNameUnknown, "there is no repository %s here; the first push makes it, or whoever may make one", name)
	}
	return oci.Errorf(oci.CodeNameUnknown, "there is no repository %s here", name)
}

// Seen returns what the caller may see in lists.
func (d *Desk) Seen(ctx context.Context) record.Seen { return d.Access.Seen(callers.From(ctx)) }
