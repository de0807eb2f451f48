package flow

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/flow/bring"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/arrivals"
	"warthesis/internal/record/peers"
	"warthesis/internal/record/runs"
	"warthesis/internal/rule"
	"warthesis/internal/work"
)

// ImportInput names an import. It is exported for the API library.
type ImportInput struct {
	Name string `path:"name" maxLength:"64"`
}

const mayImport = "bring images in from peers"

// importRefusal gives errors of the records the words of people.
func importRefusal(name string, err error) error {
	switch {
	case errors.Is(err, arrivals.ErrNoImport):
		err = oci.Errorf(oci.CodeNameUnknown, "there is no import %s", name)
	case errors.Is(err, arrivals.ErrImportTaken):
		err = oci.Errorf(oci.CodeQueryInvalid, "there is an import %s already; run it again, or take another name", name)
	case errors.Is(err, arrivals.ErrMost):
		err = oci.Errorf(oci.CodeQueryInvalid, "there are %d imports already; remove one first", arrivals.MostImports)
	}
	return refusal(err)
}

func (d *door) imports(ctx context.Context, _ *struct{}) (*desk.Reply[api.ImportList], error) {
	if err := d.maySee(callers.From(ctx)); err != nil {
		return nil, desk.Refusal(err)
	}
	all, err := d.Records.View(ctx).Arrivals().Imports()
	list := api.ImportList{Imports: make([]api.Import, len(all))}
	for i, is := range all {
		if list.Imports[i], err = d.importOf(ctx, is); err != nil {
			break
		}
	}
	return desk.OK(list, err)
}

// importOf is an import with how its last run stands.
func (d *door) importOf(ctx context.Context, is arrivals.Importing) (api.Import, error) {
	shown := api.Import{
		Name: is.Name, Prefix: is.Prefix, NoReferrers: is.NoReferrers, Overwrites: is.Overwrites, When: is.RunWhen, MadeAt: is.MadeAt.Time(), MadeBy: d.NameOf(is.MadeBy),
		What: make([]api.ImportWhat, len(is.What)),
	}
	if is.Report != nil {
		shown.Report = &api.ImportReport{}
		if err := json.Unmarshal(is.Report, shown.Report); err != nil {
			return shown, err
		}
	}
	for i, what := range is.What {
		shown.What[i] = api.ImportWhat(what)
	}
	p, err := d.Records.View(ctx).Peers().ByID(is.PeerID)
	if err != nil {
		return shown, err
	}
	shown.Peer = p.Name
	last, err := d.Records.View(ctx).Runs().List(runs.Filter{Kind: bring.Kind, Place: is.Name, Limit: 1})
	if err != nil || len(last) == 0 {
		return shown, err
	}
	row := last[0]
	if now, open := d.Work.Run(row.ID); open {
		row = now
	}
	shown.Run, shown.State, shown.Step, shown.Done, shown.Total, shown.Says, shown.EndedAt = row.ID, string(row.State), row.Step, row.Done, row.Total, row.Report, desk.Moment(row.EndedAt)
	if row.Error != "" {
		shown.Says = row.Error
	}
	return shown, nil
}

func (d *door) oneImport(ctx context.Context, in *ImportInput) (*desk.Reply[api.Import], error) {
	if err := d.maySee(callers.From(ctx)); err != nil {
		return nil, desk.Refusal(err)
	}
	is, err := d.Records.View(ctx).Arrivals().GetImport(in.Name)
	if err != nil {
		return nil, importRefusal(in.Name, err)
	}
	return desk.OK(d.importOf(ctx, is))
}

// readImport reads what somebody says of an import.
func readImport(given api.MakeImport) (is arrivals.Importing, says string, err error) {
	is = arrivals.Importing{Name: given.Name, Prefix: given.Prefix, NoReferrers: given.NoReferrers, Overwrites: given.Overwrites, RunWhen: given.When}
	if err := rule.CheckListName(given.Name); err != nil {
		return is, "", oci.Errorf(oci.CodeNameInvalid, "%q is no name for an import; it has 1 to 64 small letters, digits and dashes between them", given.Name)
	}
	if given.Prefix != "" {
		if _, err := oci.ParseName(string(given.Prefix)); err != nil {
			return is, "", err
		}
	}
	if _, err := bring.ReadWhen(given.When); err != nil {
		return is, "", oci.Errorf(oci.CodeQueryInvalid, "when: %v", err)
	}
	var parts []string
	for _, what := range given.What {
		one := arrivals.What(what)
		switch {
		case one.Pattern != "" && (one.From != "" || one.To != ""):
			return is, "", oci.Errorf(oci.CodeQueryInvalid, "%s and the pattern %s say two things at once; name one of them", one.From, one.Pattern)
		case one.Pattern != "":
			p, err := rule.ParsePattern(one.Pattern)
			if err != nil {
				return is, "", oci.Errorf(oci.CodeQueryInvalid, "%v", err)
			}
			if p.HasTag() {
				return is, "", oci.Errorf(oci.CodeQueryInvalid, "%s means some tags; an import brings all of a repository. A packing list, or a replication rule, brings some", one.Pattern)
			}
			parts = append(parts, one.Pattern)
		default:
			if one.To == "" {
				one.To = one.From
			}
			for _, name := range []oci.Name{one.From, one.To} {
				if _, err := oci.ParseName(string(name)); err != nil {
					return is, "", err
				}
			}
			parts = append(parts, string(one.From))
		}
		is.What = append(is.What, one)
	}
	const most = 5
	if more := len(parts) - most; more > 0 {
		parts = append(parts[:most], fmt.Sprintf("and %d more", more))
	}
	return is, strings.Join(parts, ", "), nil
}

func (d *door) makeImport(ctx context.Context, in *struct{ Body api.MakeImport }) (*desk.Reply[api.Import], error) {
	c := callers.From(ctx)
	if err := d.Access.Admin(c, mayImport); err != nil {
		return nil, desk.Refusal(err)
	}
	is, says, err := readImport(in.Body)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	e := c.Event(record.EventImportMade)
	e.Subject, e.Detail = "import "+is.Name, says+" of the peer "+in.Body.Peer
	err = d.Access.Change(ctx, c, e, func(tx *record.Tx) error {
		p, err := tx.Peers().Get(in.Body.Peer)
		if errors.Is(err, peers.ErrNone) {
			return oci.Errorf(oci.CodeQueryInvalid, "there is no peer %q; an admin makes one with: warthesis peer make", in.Body.Peer)
		}
		if err != nil {
			return err
		}
		is.PeerID, is.MadeAt, is.MadeBy = p.ID, tx.Now(), c.Account.ID
		// The first run is asked for at once, and by its schedule only after that.
		is.RanAt, is.RanServed = tx.Now(), tx.Served()
		is, err = tx.Arrivals().MakeImport(is)
		return err
	})
	if err != nil {
		return nil, importRefusal(is.Name, err)
	}
	return d.askImport(ctx, c, is, in.Body.Preview)
}

// askImport asks for a run of an import.
func (d *door) askImport(ctx context.Context, c access.Caller, is arrivals.Importing, preview bool) (*desk.Reply[api.Import], error) {
	o := bring.Options{Preview: preview, By: c.Account.ID}
	if _, _, err := d.Work.Ask(ctx, work.Wish{Kind: bring.Kind, Place: is.Name, Options: o.String(), Cause: runs.BySomebody, Account: c.Account.ID}); err != nil {
		return nil, desk.Refusal(err)
	}
	return desk.OK(d.importOf(ctx, is))
}

func (d *door) runImport(ctx context.Context, in *struct {
	ImportInput
	Body api.RunImport
}) (*desk.Reply[api.Import], error) {
	c := callers.From(ctx)
	if err := d.Access.Admin(c, mayImport); err != nil {
		return nil, desk.Refusal(err)
	}
	var is arrivals.Importing
	e := c.Event(record.EventArrivalMade)
	e.Subject, e.Detail = "import "+in.Name, map[bool]string{false: "brings in what differs", true: "compares both sides"}[in.Body.Preview]
	err := d.Access.Change(ctx, c, e, func(tx *record.Tx) (err error) {
		if is, err = tx.Arrivals().GetImport(in.Name); err != nil {
			return err
		}
		return tx.Arrivals().Ran(is.ID, tx.Now(), tx.Served())
	})
	if err != nil {
		return nil, importRefusal(in.Name, err)
	}
	return d.askImport(ctx, c, is, in.Body.Preview)
}

func (d *door) removeImport(ctx context.Context, in *ImportInput) (*desk.None, error) {
	c := callers.From(ctx)
	if err := d.Access.Admin(c, mayImport); err != nil {
		return nil, desk.Refusal(err)
	}
	e := c.Event(record.EventImportRemoved)
	e.Subject = "import " + in.Name
	err := d.Access.Change(ctx, c, e, func(tx *record.Tx) error { return tx.Arrivals().RemoveImport(in.Name) })
	if err != nil {
		return nil, importRefusal(in.Name, err)
	}
	return desk.Done(nil)
}
