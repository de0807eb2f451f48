// Package management is the door of the management API, /api/v1. Its types are in
// package api; validation and the OpenAPI document come from them.
package management

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"

	"warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/registry"
)

// Options are what the door needs to know.
type Options struct {
	Registry *registry.Registry
	Records  *record.Store
	Access   *access.Access
	Callers  *callers.Callers
	// Company is the company's login, nil where there is none; CompanyName is what
	// its button says.
	Company     *access.Company
	CompanyName string
	Version     string
	// Stopping is closed when the service stops: open streams end then.
	Stopping <-chan struct{}
}

type door struct {
	Options
	// streams bounds the streams of changes that are open.
	streams *access.Crowd
}

// Register puts the door into the router and returns the API, whose OpenAPI
// document is also served at /api/openapi.json.
func Register(router *gin.Engine, o Options) huma.API {
	settings := huma.DefaultConfig("Warthesis management API", o.Version)
	settings.OpenAPIPath, settings.DocsPath, settings.SchemasPath = "/api/openapi", "", ""
	settings.CreateHooks = nil
	a := humagin.New(router, settings)
	d := &door{o, access.NewCrowd(mostStreams, mostStreamsFromOne, "too many pages follow what happens")}
	get := func(path, id, summary string) huma.Operation {
		return huma.Operation{Method: http.MethodGet, Path: "/api/v1" + path, OperationID: id, Summary: summary}
	}
	huma.Register(a, get("/service", "service", "What this registry is"), d.service)
	huma.Register(a, get("/repositories", "repositories", "List repositories"), d.repositories)
	huma.Register(a, get("/repository", "repository", "One repository"), d.repository)
	huma.Register(a, get("/tags", "tags", "List the tags of a repository"), d.tags)
	huma.Register(a, get("/image", "image", "Look into an image, an index or an artifact"), d.image)
	huma.Register(a, get("/find", "find", "Find a repository, a tag or a digest"), d.find)
	d.registerRights(a)
	d.registerCompany(router, a)
	d.registerChanges(a, get("/changes", "changes", "What happens, as it happens"))
	return a
}

// How many streams of changes may be open, in total and from one address.
const (
	mostStreams        = 2048
	mostStreamsFromOne = 128
)

type reply[T any] struct {
	Body T
}

func ok[T any](body T, err error) (*reply[T], error) {
	if err != nil {
		return nil, refusal(err)
	}
	return &reply[T]{body}, nil
}

// refusal translates kinds of errors to problem details.
func refusal(err error) error {
	var known *oci.Error
	var slow *access.SlowDown
	if errors.As(err, &slow) {
		return tooSoon(slow)
	}
	if errors.Is(err, record.ErrNotFound) {
		return huma.Error404NotFound("there is nothing of that name here")
	}
	if errors.Is(err, access.ErrIssuer) {
		return huma.Error502BadGateway(err.Error())
	}
	if errors.Is(err, context.Canceled) {
		return huma.Error503ServiceUnavailable("the request was broken off")
	}
	if !errors.As(err, &known) {
		slog.Error("a request of the management API failed", "error", err)
		return huma.Error500InternalServerError("the registry failed; whoever runs it finds the reason in its log")
	}
	switch known.Code {
	case oci.CodeUnauthorized:
		return huma.Error401Unauthorized(known.Message)
	case oci.CodeDenied:
		return huma.Error403Forbidden(known.Message)
	case oci.CodeInUse:
		return huma.Error409Conflict(known.Message)
	case oci.CodeNameUnknown, oci.CodeManifestUnknown, oci.CodeBlobUnknown:
		return huma.Error404NotFound(known.Message)
	case oci.CodeTooManyRequests:
		return huma.ErrorWithHeaders(huma.Error429TooManyRequests(known.Message), http.Header{"Retry-After": {"5"}})
	case oci.CodeNameInvalid, oci.CodeTagInvalid, oci.CodeDigestInvalid, oci.CodeQueryInvalid:
		return huma.Error422UnprocessableEntity(known.Message)
	}
	slog.Error("a request of the management API failed", "error", err)
	return huma.Error500InternalServerError(known.Message)
}

func (d *door) service(ctx context.Context, _ *struct{}) (*reply[api.Service], error) {
	base := callers.BaseOf(ctx)
	return ok(api.Service{Version: d.Version, Address: base.Host, TLS: base.Scheme == "https", Company: d.company()}, nil)
}

// company names the company's login, "" for none.
func (d *door) company() string {
	if d.Company == nil {
		return ""
	}
	return d.CompanyName
}

// PageInput is what every list takes. It is exported for the API library, which reads embedded fields only of exported types.
type PageInput struct {
	Contains string `query:"contains" maxLength:"255" doc:"Keep what has this text in its name, in any case"`
	Sort     string `query:"sort" enum:"name,change" default:"name" doc:"By name, or what changed last first"`
	After    string `query:"after" maxLength:"1024" doc:"The next of the page before"`
	Limit    int    `query:"limit" minimum:"1" maximum:"1000" default:"100" doc:"Rows in the page"`
}

// cursor is the key of the last row of a page, opaque to callers.
type cursor struct {
	Name string       `json:"n"`
	At   record.Stamp `json:"t,omitempty"`
}

func (p PageInput) page() (record.Page, error) {
	page := record.Page{Order: record.Order(p.Sort), Contains: p.Contains, Limit: p.Limit + 1}
	if p.After == "" {
		return page, nil
	}
	raw, err := base64.RawURLEncoding.DecodeString(p.After)
	var key cursor
	if err != nil || json.Unmarshal(raw, &key) != nil {
		return page, oci.Errorf(oci.CodeQueryInvalid, "after is not the next of another page")
	}
	page.After, page.AfterAt = key.Name, key.At
	return page, nil
}

// cut takes the extra row that says whether more follow, and returns the key of
// the last one that stays.
func cut[T any](rows []T, limit int, key func(T) cursor) ([]T, string) {
	if len(rows) <= limit {
		return rows, ""
	}
	rows = rows[:limit]
	// A cursor of a string and a number always marshals.
	raw, _ := json.Marshal(key(rows[limit-1]))
	return rows, base64.RawURLEncoding.EncodeToString(raw)
}

type repositoriesInput struct {
	PageInput
	Namespace string `query:"namespace" maxLength:"255" doc:"Only the repositories of this namespace"`
}

func (d *door) repositories(ctx context.Context, in *repositoriesInput) (*reply[api.RepositoryList], error) {
	page, err := in.page()
	if err != nil {
		return nil, refusal(err)
	}
	page.Seen = d.seen(ctx)
	rows, err := d.Records.Repositories(ctx, in.Namespace, page)
	rows, next := cut(rows, in.Limit, func(r record.RepositoryRow) cursor { return cursor{string(r.Name), r.PushedAt} })
	if err != nil {
		return nil, refusal(err)
	}
	list := api.RepositoryList{Repositories: make([]api.Repository, len(rows)), Next: next}
	for i, row := range rows {
		if list.Repositories[i], err = d.repositoryOf(ctx, row); err != nil {
			break
		}
	}
	return ok(list, err)
}

func (d *door) repositoryOf(ctx context.Context, row record.RepositoryRow) (api.Repository, error) {
	role := d.Access.RoleIn(callers.From(ctx), row.Name)
	open, err := d.Access.IsOpen(ctx, row.Name)
	visibility := string(row.Visibility)
	if row.Visibility == record.VisibilityInherited {
		visibility = inherited
	}
	return api.Repository{
		Description: row.Description, Labels: labelsOf(row.Labels), Visibility: visibility, Open: open, Role: string(role),
		Name: row.Name, Namespace: row.Name.Namespace(), Tags: row.Tags, Manifests: row.Manifests, Size: row.Size,
		CreatedAt: row.CreatedAt.Time(), PushedAt: row.PushedAt.Time(), PulledAt: moment(row.PulledAt), Pulls: row.Pulls,
	}, err
}

// nameOf returns what an account is called, "" for nobody.
func (d *door) nameOf(account int64) string {
	found, _ := d.Records.Rights().Account(account)
	return found.Name
}

// moment is absent for never.
func moment(s record.Stamp) *time.Time {
	if s == 0 {
		return nil
	}
	t := s.Time()
	return &t
}

type RepositoryInput struct {
	Repository string `query:"repository" required:"true" maxLength:"255" doc:"Name of the repository"`
}

func (d *door) repository(ctx context.Context, in *RepositoryInput) (*reply[api.Repository], error) {
	name, err := oci.ParseName(in.Repository)
	if err != nil {
		return nil, refusal(err)
	}
	if err := d.visible(ctx, name); err != nil {
		return nil, refusal(err)
	}
	row, err := d.Records.RepositoryRow(ctx, name)
	if errors.Is(err, record.ErrNotFound) {
		err = noRepository(name)
	}
	if err != nil {
		return nil, refusal(err)
	}
	return ok(d.repositoryOf(ctx, row))
}

type tagsInput struct {
	RepositoryInput
	PageInput
}

func (d *door) tags(ctx context.Context, in *tagsInput) (*reply[api.TagList], error) {
	name, err := oci.ParseName(in.Repository)
	if err != nil {
		return nil, refusal(err)
	}
	if err := d.visible(ctx, name); err != nil {
		return nil, refusal(err)
	}
	found, err := d.Records.Repository(ctx, name)
	if errors.Is(err, record.ErrNotFound) {
		err = noRepository(name)
	}
	if err != nil {
		return nil, refusal(err)
	}
	page, err := in.page()
	if err != nil {
		return nil, refusal(err)
	}
	rows, err := d.Records.Tags(ctx, found.ID, page)
	rows, next := cut(rows, in.Limit, func(r record.TagRow) cursor { return cursor{string(r.Name), r.MovedAt} })
	list := api.TagList{Tags: make([]api.Tag, len(rows)), Next: next}
	for i, row := range rows {
		list.Tags[i] = api.Tag{
			Name: row.Name, Digest: row.Digest, MediaType: row.MediaType, ArtifactType: row.ArtifactType,
			Platforms: words(row.Platforms), Size: row.ContentSize, MovedAt: row.MovedAt.Time(), MovedBy: d.nameOf(row.MovedBy),
			PulledAt: moment(row.PulledAt), Pulls: row.Pulls,
		}
	}
	return ok(list, err)
}

func words(s string) []string { return append([]string{}, strings.Fields(s)...) }
