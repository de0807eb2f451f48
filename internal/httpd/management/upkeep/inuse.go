package upkeep

import (
	"context"
	"strings"
	"time"

	access "warthesis/internal/access/upkeep"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
	"warthesis/internal/record/inuse"
	"warthesis/internal/rule"
)

// mostInUse is the largest body that refreshes a list of what is in use, in bytes.
const mostInUse = 32 << 20

// InUseInput names a list of what is in use. It is exported for the API library.
type InUseInput struct {
	Name string `path:"name" maxLength:"64"`
}

func (d *door) inUseLists(ctx context.Context, _ *struct{}) (*desk.Reply[api.InUseLists], error) {
	all, err := d.Upkeep.InUseLists(ctx, callers.From(ctx))
	lists := api.InUseLists{Lists: make([]api.InUseList, len(all))}
	for i, list := range all {
		lists.Lists[i] = d.inUseOf(list)
	}
	return desk.OK(lists, err)
}

func (d *door) inUseOf(list access.InUseList) api.InUseList {
	return api.InUseList{
		Name: list.Name, Description: list.Description, Keeper: list.Keeper, FreshFor: rule.Span(list.FreshFor).String(), Count: list.Count,
		RefreshedAt: desk.Moment(list.RefreshedAt), RefreshedBy: d.NameOf(list.RefreshedBy), Stale: list.Stale,
	}
}

func (d *door) makeInUse(ctx context.Context, in *struct {
	InUseInput
	Body api.MakeInUse
}) (*desk.None, error) {
	fresh, err := desk.ReadSpan("fresh_for", in.Body.FreshFor)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	list := inuse.List{Name: in.Name, Description: in.Body.Description, FreshFor: fresh}
	return desk.Done(d.Upkeep.MakeInUse(ctx, callers.From(ctx), list, in.Body.Keeper))
}

func (d *door) removeInUse(ctx context.Context, in *struct {
	InUseInput
	Reason string `query:"reason" maxLength:"500" doc:"Why, for the audit log"`
}) (*desk.None, error) {
	return desk.Done(d.Upkeep.RemoveInUse(ctx, callers.From(ctx), in.Name, in.Reason))
}

func (d *door) refreshInUse(ctx context.Context, in *struct {
	InUseInput
	Body api.RefreshInUse
}) (*desk.Reply[api.InUseRefreshed], error) {
	r, err := d.Upkeep.RefreshInUse(ctx, callers.From(ctx), in.Name, in.Body.References, d.hosts(ctx), in.Body.Shrink)
	return desk.OK(api.InUseRefreshed{Now: r.Now, Came: r.Came, Left: r.Left}, err)
}

// hosts are the addresses that are this registry's.
func (d *door) hosts(ctx context.Context) []string {
	hosts := []string{callers.BaseOf(ctx).Host}
	for _, u := range d.Callers.Outside {
		hosts = append(hosts, u.Host)
	}
	return hosts
}

func (d *door) inUse(ctx context.Context, in *struct {
	InUseInput
	Absent bool   `query:"absent" doc:"Only what is not held here"`
	After  string `query:"after" maxLength:"600" doc:"The next of the page before"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (*desk.Reply[api.InUseShown], error) {
	end, err := d.Upkeep.Look(callers.From(ctx))
	if err != nil {
		return nil, desk.Refusal(err)
	}
	defer end()
	found, err := d.Upkeep.InUse(ctx, callers.From(ctx), in.Name, in.Absent, readAfter(in.After), in.Limit)
	shown := api.InUseShown{InUseList: d.inUseOf(found.InUseList), Entries: make([]api.InUseEntry, len(found.Entries))}
	here := callers.BaseOf(ctx).Host
	for i, e := range found.Entries {
		shown.Entries[i] = api.InUseEntry{Reference: sayUsed(e.Entry, here), Digest: e.Digest, Held: e.Held}
		if e.LeftServed != 0 {
			seconds := int64((d.Upkeep.Clock.Served() - time.Duration(e.LeftServed)) / time.Second)
			shown.Entries[i].LeftFor = &seconds
		}
	}
	if found.More {
		last := found.Entries[len(found.Entries)-1]
		shown.Next = strings.Join([]string{last.Host, last.Repository, string(last.Tag), string(last.Digest)}, " ")
	}
	return desk.OK(shown, err)
}

func readAfter(s string) inuse.Entry {
	parts := strings.SplitN(s+"   ", " ", 4)
	return inuse.Entry{Host: parts[0], Repository: parts[1], Tag: oci.Tag(parts[2]), Digest: oci.Digest(strings.TrimSpace(parts[3]))}
}

// sayUsed writes a reference, of this registry as the asker calls it.
func sayUsed(e inuse.Entry, here string) string {
	if e.Repository == "" {
		return e.Digest.String()
	}
	ref := oci.Reference{Registry: e.Host, Name: oci.Name(e.Repository), Tag: e.Tag, Digest: e.Digest}
	if ref.Registry == "" {
		ref.Registry = here
	}
	return ref.String()
}
