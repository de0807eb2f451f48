package rights

import (
	"context"

	"warthesis/internal/access/team"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
)

func (d *door) makeTeam(ctx context.Context, in *struct{ Body api.NewTeam }) (*desk.None, error) {
	return desk.Done(team.Make(ctx, d.Access, callers.From(ctx), in.Body.Name, in.Body.Description, in.Body.Owners, in.Body.Writers))
}
