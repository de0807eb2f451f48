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
	s := d.Access.Settings()
	return desk.OK(api.Settings{
		AccountsMakeNamespaces: s.AccountsMakeNamespaces, PushMakesNamespaces: s.PushMakesNamespaces, RestoreWindow: desk.SpanOf(s.RestoreWindow),
	}, nil)
}

func (d *door) changeSettings(ctx context.Context, in *struct{ Body api.Settings }) (*desk.None, error) {
	s := record.Settings{AccountsMakeNamespaces: in.Body.AccountsMakeNamespaces, PushMakesNamespaces: in.Body.PushMakesNamespaces, RestoreWindow: d.Access.Settings().RestoreWindow}
	if in.Body.RestoreWindow != "" {
		window, err := desk.ReadSpan("restore_window", in.Body.RestoreWindow)
		if err != nil {
			return nil, desk.Refusal(err)
		}
		s.RestoreWindow = window
	}
	return desk.Done(d.Access.ChangeSettings(ctx, callers.From(ctx), s))
}
