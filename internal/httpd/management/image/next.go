package image

import (
	"context"

	"warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
	"warthesis/internal/rule"
)

type nextInput struct {
	desk.RepositoryInput
	Part   string `query:"part" enum:"major,minor,patch" default:"minor" doc:"Which number of the last release goes up"`
	Word   string `query:"word" maxLength:"32" doc:"For a pre-release, the word before its number, as rc in 1.4.0-rc.2"`
	Prefix string `query:"prefix" maxLength:"64" doc:"What stands before the version, as in planner-1.4.0"`
}

func (in *nextInput) read() (oci.Name, rule.Step, error) {
	step := rule.Step{Part: rule.Part(in.Part), Word: in.Word, Prefix: in.Prefix}
	name, err := oci.ParseName(in.Repository)
	switch {
	case err != nil:
	case in.Word != "" && !rule.IsWord(in.Word):
		err = oci.Errorf(oci.CodeQueryInvalid, "the word of a pre-release is letters and digits, and not digits alone, as in rc; %q is none", in.Word)
	case in.Prefix != "":
		_, err = oci.ParseTag(in.Prefix)
	}
	return name, step, err
}

func (d *door) nextVersion(ctx context.Context, in *nextInput) (*desk.Reply[api.NextVersion], error) {
	name, step, err := in.read()
	if err == nil {
		err = d.Visible(ctx, name)
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	tag, err := d.Registry.NextVersion(ctx, name, step)
	return desk.OK(api.NextVersion{Tag: tag}, err)
}

func (d *door) holdNextVersion(ctx context.Context, in *nextInput) (*desk.Reply[api.NextVersion], error) {
	name, step, err := in.read()
	if err == nil {
		err = d.May(ctx, name, access.Push)
	}
	if err == nil && callers.From(ctx).Nobody() {
		err = oci.Errorf(oci.CodeUnauthorized, "a name is held for an account; log in")
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	tag, until, err := d.Registry.HoldNextVersion(ctx, name, step)
	return desk.OK(api.NextVersion{Tag: tag, HeldUntil: &until}, err)
}

type reservationsInput struct {
	desk.RepositoryInput
	After string `query:"after" maxLength:"128" doc:"The next of the page before"`
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

func (d *door) reservations(ctx context.Context, in *reservationsInput) (*desk.Reply[api.ReservationList], error) {
	name, err := oci.ParseName(in.Repository)
	if err == nil {
		err = d.May(ctx, name, access.Manage)
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	all, err := d.Registry.Reservations(ctx, name, oci.Tag(in.After), in.Limit+1)
	list := api.ReservationList{Reservations: []api.Reservation{}}
	if len(all) > in.Limit {
		all = all[:in.Limit]
		list.Next = all[in.Limit-1].Tag
	}
	for _, r := range all {
		list.Reservations = append(list.Reservations, api.Reservation{Tag: r.Tag, By: d.NameOf(r.AccountID), Until: r.Until})
	}
	return desk.OK(list, err)
}

func (d *door) releaseReservation(ctx context.Context, in *struct {
	desk.RepositoryInput
	Tag string `query:"tag" required:"true" maxLength:"128"`
}) (*desk.None, error) {
	name, err := oci.ParseName(in.Repository)
	var tag oci.Tag
	if err == nil {
		tag, err = oci.ParseTag(in.Tag)
	}
	if err == nil {
		err = d.May(ctx, name, access.Manage)
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	return desk.Done(d.Registry.ReleaseReservation(ctx, name, tag, d.NameOf))
}
