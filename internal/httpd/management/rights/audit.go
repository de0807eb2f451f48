package rights

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// AuditInput picks lines of the audit log. It is exported for the API library.
type AuditInput struct {
	Account    string    `query:"account" maxLength:"255"`
	Namespace  string    `query:"namespace" maxLength:"255"`
	Repository string    `query:"repository" maxLength:"255"`
	Kind       string    `query:"kind" maxLength:"64" doc:"What was done, as the lines name it"`
	Verdict    string    `query:"verdict" enum:"done,refused"`
	From       time.Time `query:"from" doc:"Not before"`
	Until      time.Time `query:"until" doc:"Before"`
	Before     int64     `query:"before" doc:"The next of the page before"`
}

// auditFilter says which lines the input picks, of those that the caller may read.
func (d *door) auditFilter(ctx context.Context, in AuditInput, limit int) (record.EventFilter, error) {
	namespace := in.Namespace
	if namespace == "" && in.Repository != "" {
		namespace = oci.Name(in.Repository).Namespace()
	}
	f := record.EventFilter{
		Account: in.Account, Repository: oci.Name(in.Repository), Kind: record.EventKind(in.Kind), Verdict: in.Verdict,
		From: record.StampOf(in.From), Until: record.StampOf(in.Until), Before: in.Before, Limit: limit,
	}
	id, all, err := d.Access.MayAudit(ctx, callers.From(ctx), namespace)
	f.Namespace = id
	if all {
		f.NamedAlike = namespace
	}
	return f, err
}

func lineOf(e record.Event) api.Line {
	return api.Line{
		ID: e.ID, At: e.At.Time(), Kind: string(e.Kind), Verdict: e.Verdict, Account: e.Account, Token: e.Token, Address: e.Address,
		Request: e.Request, Repository: e.Repository, Tag: e.Tag, Digest: e.Digest, Subject: e.Subject, Detail: e.Detail,
	}
}

func (d *door) audit(ctx context.Context, in *struct {
	AuditInput
	Limit int `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (*desk.Reply[api.LineList], error) {
	filter, err := d.auditFilter(ctx, in.AuditInput, in.Limit+1)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	rows, err := d.Records.Events(ctx, filter)
	list := api.LineList{Lines: []api.Line{}}
	for i, e := range rows {
		if i == in.Limit {
			list.Next = rows[i-1].ID
			break
		}
		list.Lines = append(list.Lines, lineOf(e))
	}
	return desk.OK(list, err)
}

// exportPage is how many lines of an export are read at once.
const exportPage = 1000

// auditLines streams the log, page by page, so that no read lasts.
func (d *door) auditLines(ctx context.Context, in *struct{ AuditInput }) (*huma.StreamResponse, error) {
	filter, err := d.auditFilter(ctx, in.AuditInput, exportPage)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	return &huma.StreamResponse{Body: func(out huma.Context) {
		out.SetHeader("Content-Type", "application/x-ndjson")
		encoder := json.NewEncoder(out.BodyWriter())
		for {
			rows, err := d.Records.Events(ctx, filter)
			if err != nil {
				// The lines so far are out; a cut connection is all that can still be said.
				panic(http.ErrAbortHandler)
			}
			for _, e := range rows {
				if encoder.Encode(lineOf(e)) != nil {
					return
				}
			}
			if len(rows) < exportPage {
				return
			}
			filter.Before = rows[len(rows)-1].ID
		}
	}}, nil
}
