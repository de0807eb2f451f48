package rights

import (
	"context"

	"warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
)

type verdictInput struct {
	desk.RepositoryInput
	Action string `query:"action" required:"true" enum:"pull,push,delete,manage"`
}

func (d *door) verdict(ctx context.Context, in *verdictInput) (*desk.Reply[api.Verdict], error) {
	name, err := oci.ParseName(in.Repository)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	v, err := d.Access.Verdict(ctx, callers.From(ctx), name, access.Action(in.Action))
	return desk.OK(api.Verdict{Allowed: v.Allowed, Reason: v.Reason}, err)
}
