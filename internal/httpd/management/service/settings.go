package service

import (
	"context"

	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/record"
)

func (d *door) settings(ctx context.Context, _ *struct{}) (*desk.Reply[api.Settings], error) {
	if err := d.Access.AsLoggedIn(callers.From(ctx)); err != nil {
		return nil, desk.Refusal(err)
	}
	return desk.OK(api.Settings(d.Access.Settings()), nil)
}

func (d *door) changeSettings(ctx context.Context, in *struct{ Body api.Settings }) (*desk.None, error) {
	return desk.Done(d.Access.ChangeSettings(ctx, callers.From(ctx), record.Settings(in.Body)))
}
