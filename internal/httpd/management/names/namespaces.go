package names

import (
	"context"
	"errors"

	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

func (d *door) namespaceOf(ctx context.Context, n record.NamespaceRow) api.Namespace {
	role := d.Access.RoleIn(callers.From(ctx), oci.Name(n.Name+"/"))
	makes := string(n.PushMakes)
	if n.PushMakes == record.NoRole {
		makes = nobody
	}
	shown := api.Namespace{
		Name: n.Name, Description: n.Description, Labels: desk.LabelsOf(n.Labels), Open: n.Open, PushMakes: makes,
		NewDescription: n.NewDescription, NewLabels: desk.LabelsOf(n.NewLabels), LogPulls: n.LogPulls, RestoreWindow: desk.SpanOf(n.RestoreWindow),
		Repositories: n.Repositories, Size: n.Size, CreatedAt: n.CreatedAt.Time(), PushedAt: desk.Moment(n.PushedAt), Role: string(role),
	}
	if role.Rank() >= record.Writer.Rank() {
		if use, err := d.Records.View(ctx).Quota().Namespace(n.ID); err == nil && use.Quota > 0 {
			shown.Used, shown.Quota = use.Used, use.Quota
		}
	}
	return shown
}

func (d *door) namespaces(ctx context.Context, in *struct{ desk.PageInput }) (*desk.Reply[api.NamespaceList], error) {
	page, err := in.Page()
	if err != nil {
		return nil, desk.Refusal(err)
	}
	page.Seen = d.Seen(ctx)
	rows, err := d.Records.Namespaces(ctx, page)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	rows, next := desk.Cut(rows, in.Limit, func(n record.NamespaceRow) desk.Cursor { return desk.Cursor{Name: n.Name, At: n.CreatedAt} })
	list := api.NamespaceList{Namespaces: make([]api.Namespace, len(rows)), Next: next}
	for i, row := range rows {
		list.Namespaces[i] = d.namespaceOf(ctx, row)
	}
	return desk.OK(list, nil)
}

// Namespace shows one namespace to whoever may see it in the list.
func (d *door) namespace(ctx context.Context, in *struct{ desk.NameInput }) (*desk.Reply[api.Namespace], error) {
	row, err := d.Records.NamespaceRow(ctx, in.Name, d.Seen(ctx))
	if errors.Is(err, record.ErrNotFound) {
		err = oci.Errorf(oci.CodeNameUnknown, "there is no namespace %s here", in.Name)
	}
	return desk.OK(d.namespaceOf(ctx, row), err)
}

func (d *door) makeNamespace(ctx context.Context, in *struct{ Body api.NewPlace }) (*desk.None, error) {
	change, err := changeOf(in.Body.PlaceChange)
	if err == nil {
		_, err = d.Access.MakeNamespace(ctx, callers.From(ctx), in.Body.Name, change)
	}
	return desk.Done(err)
}

func (d *door) changeNamespace(ctx context.Context, in *struct {
	desk.NameInput
	Body api.PlaceChange
}) (*desk.None, error) {
	change, err := changeOf(in.Body)
	if err == nil {
		err = d.Access.ChangeNamespace(ctx, callers.From(ctx), in.Name, change)
	}
	return desk.Done(err)
}

func (d *door) removeNamespace(ctx context.Context, in *struct {
	desk.NameInput
	RemovingInput
}) (*desk.Reply[api.RemovedBy], error) {
	id, err := d.Access.RemoveNamespace(ctx, callers.From(ctx), in.Name, in.removing())
	if err != nil {
		return nil, desk.Refusal(err)
	}
	return d.removedBy(ctx, id)
}

func (d *door) restoreNamespace(ctx context.Context, in *struct{ desk.NameInput }) (*desk.None, error) {
	return desk.Done(d.Upkeep.RestoreNamespace(ctx, callers.From(ctx), in.Name))
}
