package image

import (
	"context"
	"regexp"
	"strings"

	"warthesis/internal/api"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/find"
)

type findInput struct {
	Query string `query:"q" required:"true" maxLength:"512" doc:"A repository, name:tag, name@digest, or a digest or its beginning with or without algorithm"`
}

// mostPlaces is how many places a search shows.
const mostPlaces = 100

// hexStart is the shortest beginning of a digest that is looked for, in hex digits:
// a shorter one would mean everything.
var hexStart = regexp.MustCompile(`^[0-9a-f]{6,128}$`)

func (d *door) find(ctx context.Context, in *findInput) (*desk.Reply[api.FindResult], error) {
	query := d.withoutAddress(strings.TrimSpace(in.Query))
	seen := d.Seen(ctx)
	places, err := d.findDigest(ctx, query, seen)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	named, err := d.findNames(ctx, query, seen)
	places = append(append([]api.Place{}, places...), named...)
	more := len(places) > mostPlaces
	places = places[:min(len(places), mostPlaces)]
	if err == nil {
		err = d.tellWhat(ctx, places)
	}
	return desk.OK(api.FindResult{Places: places, More: more}, err)
}

// mostTagsTold is how many tags are told of one place.
const mostTagsTold = 10

// tellWhat says of places what they are: platforms, type and tags of the manifest.
func (d *door) tellWhat(ctx context.Context, places []api.Place) error {
	var digests []oci.Digest
	for _, p := range places {
		if p.Holder != "" {
			digests = append(digests, p.Holder)
		}
	}
	if len(digests) == 0 {
		return nil
	}
	holders, err := d.Records.View(ctx).Find(d.Seen(ctx)).Holders(digests, mostTagsTold)
	if err != nil {
		return err
	}
	type key struct {
		repository oci.Name
		digest     oci.Digest
	}
	about := map[key]find.Holder{}
	for _, h := range holders {
		about[key{h.Repository, h.Digest}] = h
	}
	for i := range places {
		h := about[key{places[i].Repository, places[i].Holder}]
		places[i].ArtifactType, places[i].Platforms, places[i].Tags = h.ArtifactType, strings.Fields(h.Platforms), strings.Fields(h.Tags)
		places[i].Since = desk.Moment(record.Stamp(h.Since))
	}
	twins, err := d.Records.View(ctx).Find(d.Seen(ctx)).Twins(digests)
	for i := range places {
		for _, t := range twins {
			if t.Of == places[i].Holder {
				places[i].Twins = append(places[i].Twins, api.Twin{Repository: t.Repository, Digest: t.Digest})
			}
		}
	}
	return err
}

// withoutAddress takes the registry's address off a pasted reference.
func (d *door) withoutAddress(query string) string {
	if ref, err := oci.ParseReference(query); err == nil {
		return strings.TrimPrefix(query, ref.Registry+"/")
	}
	return query
}

func (d *door) findDigest(ctx context.Context, query string, seen record.Seen) ([]api.Place, error) {
	_, digest, found := strings.Cut(query, "@")
	if !found {
		digest = query
	}
	prefixes := []string{"sha256:", "sha512:"}
	hex := strings.ToLower(digest)
	if algorithm, rest, named := strings.Cut(hex, ":"); named {
		if prefixes, hex = []string{algorithm + ":"}, rest; algorithm != "sha256" && algorithm != "sha512" {
			return nil, nil
		}
	}
	if !hexStart.MatchString(hex) {
		return nil, nil
	}
	var places []api.Place
	for _, prefix := range prefixes {
		rows, err := d.Records.View(ctx).Find(seen).Digest(prefix+hex, mostPlaces+1)
		if err != nil {
			return nil, err
		}
		for _, row := range rows {
			places = append(places, api.Place{
				Repository: row.Repository, Relation: row.Relation, Digest: row.Digest, Holder: row.Holder,
				MediaType: row.MediaType, Size: row.Size, Layer: row.Layer,
			})
		}
	}
	return places, nil
}

func (d *door) findNames(ctx context.Context, query string, seen record.Seen) ([]api.Place, error) {
	name, tag, hasTag := strings.Cut(query, ":")
	if hasTag {
		return d.findTag(ctx, name, tag, seen)
	}
	name, _, _ = strings.Cut(name, "@")
	rows, err := d.Records.Repositories(ctx, "", record.Page{Contains: name, Limit: mostPlaces + 1, Seen: seen})
	places := make([]api.Place, len(rows))
	for i, row := range rows {
		places[i] = api.Place{Repository: row.Name, Relation: "repository", Size: row.Size}
	}
	return places, err
}

func (d *door) findTag(ctx context.Context, name, tag string, seen record.Seen) ([]api.Place, error) {
	repositories, err := d.Records.Repositories(ctx, "", record.Page{Contains: name, Limit: mostPlaces, Seen: seen})
	if err != nil {
		return nil, err
	}
	var places []api.Place
	for _, r := range repositories {
		rows, err := d.Records.Tags(ctx, r.ID, record.Page{Contains: tag, Limit: mostPlaces + 1 - len(places)})
		if err != nil {
			return nil, err
		}
		for _, row := range rows {
			places = append(places, api.Place{
				Repository: r.Name, Relation: "tag", Tag: row.Name, Digest: row.Digest, Holder: row.Digest,
				MediaType: row.MediaType, Size: row.ContentSize,
			})
		}
		if len(places) > mostPlaces {
			break
		}
	}
	return places, nil
}
