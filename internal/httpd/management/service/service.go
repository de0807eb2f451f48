package service

import (
	"context"

	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
)

func (d *door) service(ctx context.Context, _ *struct{}) (*desk.Reply[api.Service], error) {
	base := callers.BaseOf(ctx)
	return desk.OK(api.Service{Version: d.Version, Address: base.Host, TLS: base.Scheme == "https", Company: d.company(), Trial: d.Trial}, nil)
}

// company names the company's login, "" for none.
func (d *door) company() string {
	if d.Company == nil {
		return ""
	}
	return d.CompanyName
}
