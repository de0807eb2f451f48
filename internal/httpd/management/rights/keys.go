package rights

import (
	"context"

	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
)

func (d *door) rotateKeys(ctx context.Context, _ *struct{}) (*desk.None, error) {
	return desk.Done(d.Access.RotateKeys(ctx, callers.From(ctx)))
}
