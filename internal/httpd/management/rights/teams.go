package rights

import (
	"context"

	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
)

func (d *door) makeTeam(ctx context.Context, in *struct{ Body api.NewTeam }) (*desk.None, error) {
	return desk.Done(d.Access.Team(ctx, callers.From(ctx), in.Body.Name, in.Body.Description, in.Body.Owners, in.Body.Writers))
}
