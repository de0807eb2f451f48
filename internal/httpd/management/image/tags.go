package image

import (
	"context"
	"errors"

	"warthesis/internal/api"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/rule"
)

type tagsInput struct {
	desk.RepositoryInput
	desk.PartInput
	Sort   string `query:"sort" enum:"name,change,version" default:"name" doc:"By name; what moved last first; or the newest version first, and behind them the other tags with the highest numbers first"`
	Prefix string `query:"prefix" maxLength:"128" doc:"Keep what begins with this"`
	// Pattern is the tag's place of one.
	Pattern string `query:"pattern" maxLength:"128" doc:"Keep what a pattern means: * is any text; <version>, <release> and <commit> are kinds"`
}

func (d *door) tags(ctx context.Context, in *tagsInput) (*desk.Reply[api.TagList], error) {
	name, err := oci.ParseName(in.Repository)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	if err := d.Visible(ctx, name); err != nil {
		return nil, desk.Refusal(err)
	}
	found, err := d.Records.Repository(ctx, name)
	if errors.Is(err, record.ErrNotFound) {
		err = d.NoRepository(ctx, name)
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	page, err := in.By(in.Sort)
	page.Prefix = in.Prefix
	if err != nil {
		return nil, desk.Refusal(err)
	}
	if page.Pattern, err = readPattern(in.Pattern); err != nil {
		return nil, desk.Refusal(err)
	}
	rows, err := d.Records.Tags(ctx, found.ID, page)
	rows, next := desk.Cut(rows, in.Limit, func(r record.TagRow) desk.Cursor { return desk.Cursor{Name: string(r.Name), At: r.MovedAt} })
	list := api.TagList{Tags: make([]api.Tag, len(rows)), Next: next}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	seals := d.Records.View(ctx).Seals(found, int64(d.Upkeep.Clock.Served()))
	around, err := seals.Around()
	for i, row := range rows {
		list.Tags[i] = api.Tag{
			Name: row.Name, Digest: row.Digest, MediaType: row.MediaType, ArtifactType: row.ArtifactType,
			Platforms: desk.Words(row.Platforms), Size: row.ContentSize, MovedAt: row.MovedAt.Time(), MovedBy: d.NameOf(row.MovedBy),
			PulledAt: desk.Moment(row.PulledAt), Pulls: row.Pulls, Seal: d.SealOf(seals.By(around.Lists, row.Seal())), Missing: row.Missing,
		}
	}
	return desk.OK(list, err)
}

// readPattern reads the tag's place of a pattern; "" means all.
func readPattern(s string) (rule.Pattern, error) {
	if s == "" {
		return rule.Pattern{}, nil
	}
	p, err := rule.ParsePattern("*:" + s)
	if err != nil {
		err = oci.Errorf(oci.CodeQueryInvalid, "pattern: %s", err)
	}
	return p, err
}
