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

type repositoriesInput struct {
	desk.PageInput
	Namespace string `query:"namespace" maxLength:"255" doc:"Only the repositories of this namespace"`
}

func (d *door) repositories(ctx context.Context, in *repositoriesInput) (*desk.Reply[api.RepositoryList], error) {
	page, err := in.Page()
	if err != nil {
		return nil, desk.Refusal(err)
	}
	page.Seen = d.Seen(ctx)
	rows, err := d.Records.Repositories(ctx, in.Namespace, page)
	rows, next := desk.Cut(rows, in.Limit, func(r record.RepositoryRow) desk.Cursor { return desk.Cursor{Name: string(r.Name), At: r.PushedAt} })
	if err != nil {
		return nil, desk.Refusal(err)
	}
	list := api.RepositoryList{Repositories: make([]api.Repository, len(rows)), Next: next}
	for i, row := range rows {
		if list.Repositories[i], err = d.repositoryOf(ctx, row); err != nil {
			break
		}
	}
	return desk.OK(list, err)
}

func (d *door) repositoryOf(ctx context.Context, row record.RepositoryRow) (api.Repository, error) {
	role := d.Access.RoleIn(callers.From(ctx), row.Name)
	open, err := d.Access.IsOpen(ctx, row.Name)
	visibility := string(row.Visibility)
	if row.Visibility == record.VisibilityInherited {
		visibility = inherited
	}
	shown := api.Repository{
		Description: row.Description, Labels: desk.LabelsOf(row.Labels), Visibility: visibility, Open: open, Role: string(role),
		Name: row.Name, Namespace: row.Name.Namespace(), Tags: row.Tags, Manifests: row.Manifests, Size: row.Size,
		CreatedAt: row.CreatedAt.Time(), PushedAt: row.PushedAt.Time(), PulledAt: desk.Moment(row.PulledAt), Pulls: row.Pulls,
	}
	if role.Rank() >= record.Writer.Rank() {
		shown.TagQuota = row.TagQuota
	}
	return shown, err
}

func (d *door) repository(ctx context.Context, in *desk.RepositoryInput) (*desk.Reply[api.Repository], error) {
	name, err := oci.ParseName(in.Repository)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	if err := d.Visible(ctx, name); err != nil {
		return nil, desk.Refusal(err)
	}
	row, err := d.Records.RepositoryRow(ctx, name)
	if errors.Is(err, record.ErrNotFound) {
		err = d.NoRepository(ctx, name)
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	return desk.OK(d.repositoryOf(ctx, row))
}

func (d *door) makeRepository(ctx context.Context, in *struct{ Body api.NewPlace }) (*desk.None, error) {
	change, err := changeOf(in.Body.PlaceChange)
	if err == nil {
		err = d.Access.MakeRepository(ctx, callers.From(ctx), in.Body.Name, change)
	}
	return desk.Done(err)
}

func (d *door) changeRepository(ctx context.Context, in *struct {
	desk.RepositoryInput
	Body api.PlaceChange
}) (*desk.None, error) {
	change, err := changeOf(in.Body)
	if err == nil {
		err = d.Access.ChangeRepository(ctx, callers.From(ctx), in.Repository, change)
	}
	return desk.Done(err)
}

func (d *door) removeRepository(ctx context.Context, in *struct {
	desk.RepositoryInput
	RemovingInput
}) (*desk.Reply[api.RemovedBy], error) {
	id, err := d.Access.RemoveRepository(ctx, callers.From(ctx), in.Repository, in.removing())
	if err != nil {
		return nil, desk.Refusal(err)
	}
	return d.removedBy(ctx, id)
}

func (d *door) restoreRepository(ctx context.Context, in *desk.RepositoryInput) (*desk.None, error) {
	return desk.Done(d.Upkeep.RestoreRepository(ctx, callers.From(ctx), in.Repository))
}
