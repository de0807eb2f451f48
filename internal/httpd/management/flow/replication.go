package flow

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/flow/replicate"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/peers"
	"warthesis/internal/record/replication"
	"warthesis/internal/rule"
)

// ReplicationInput names a replication rule. It is exported for the API library.
type ReplicationInput struct {
	Name string `path:"name" maxLength:"64"`
}

const mayReplicate = "say what is copied to peers and from them"

// replicationRefusal translates the kinds of errors that rules have.
func replicationRefusal(err error) error {
	switch {
	case errors.Is(err, replication.ErrNone):
		return huma.Error404NotFound("there is no replication rule of that name; the list has them all")
	case errors.Is(err, replication.ErrTaken):
		return huma.Error409Conflict("there is a replication rule of that name already; change it, or take another name")
	case errors.Is(err, replication.ErrMost):
		return huma.Error409Conflict(fmt.Sprintf("there are %d replication rules, which is the most; remove one", replication.MostRules))
	case errors.Is(err, replication.ErrChanged):
		return huma.Error412PreconditionFailed("the rule was changed by somebody else meanwhile; look at it, and try again")
	}
	return desk.Refusal(err)
}

// rowOf reads a rule as it is said, in the change that keeps it.
func rowOf(tx *record.Tx, text rule.ReplicationText) (row replication.Rule, err error) {
	said, err := rule.ReadReplication(text)
	if err == nil {
		_, err = replicate.ReadWhen(said.When)
	}
	if err != nil {
		return row, oci.Errorf(oci.CodeQueryInvalid, "%v", err)
	}
	if said.Name == "" {
		return row, oci.Errorf(oci.CodeQueryInvalid, "give the rule a name")
	}
	p, err := tx.Peers().Get(said.To + said.From)
	if errors.Is(err, peers.ErrNone) {
		return row, oci.Errorf(oci.CodeQueryInvalid, "there is no peer %q; an admin makes one with: warthesis peer make", said.To+said.From)
	}
	if err != nil {
		return row, err
	}
	row = replication.Rule{
		Name: said.Name, PeerID: p.ID, Inward: said.From != "", Spec: said.ReplicationText, Referrers: said.WithReferrers(), AsPushed: said.When == rule.AsPushed,
	}
	row.Globs, row.Repositories = said.Globs()
	return row, nil
}

// faces fails where another rule stands against this one.
func faces(tx *record.Tx, row replication.Rule) error {
	all, err := tx.Replication().All()
	if err != nil {
		return err
	}
	other, err := replicate.Facing(all, row)
	if err == nil && other != "" {
		err = oci.Errorf(oci.CodeInUse, "the rule %s copies the other way and wins as well, so that both would overwrite each other without end; let one of them report conflicts, or let the other side win", other)
	}
	return err
}

// makeRow makes a rule. What it means already is due, unless it runs by hand.
func makeRow(tx *record.Tx, c access.Caller, text rule.ReplicationText) error {
	row, err := rowOf(tx, text)
	if err == nil {
		err = faces(tx, row)
	}
	if err != nil {
		return err
	}
	row.MadeAt, row.MadeBy, row.ChangedAt, row.ChangedBy = tx.Now(), c.Account.ID, tx.Now(), c.Account.ID
	if row, err = tx.Replication().Make(row); err != nil {
		return err
	}
	return beginRow(tx, row)
}

func beginRow(tx *record.Tx, row replication.Rule) error {
	if row.Spec.When == rule.ByHand {
		return nil
	}
	return tx.Replication().Mark(replication.Due{RuleID: row.ID, Released: row.AsPushed, MarkedAt: tx.Now(), MarkedServed: tx.Served()})
}

// beginAnew lets the rules of a peer begin anew: what was agreed on with one registry says
// nothing about another.
func beginAnew(tx *record.Tx, peer int64) error {
	all, err := tx.Replication().All()
	for _, row := range all {
		if row.PeerID == peer && err == nil {
			err = errors.Join(tx.Replication().Forget(row.ID), beginRow(tx, row))
		}
	}
	return err
}

// changeRow changes what a rule says. Another peer, or other names there, are begun anew.
func changeRow(tx *record.Tx, c access.Caller, name string, text rule.ReplicationText, version int64) error {
	was, err := tx.Replication().Get(name)
	if err != nil {
		return err
	}
	if text.Name == "" {
		text.Name = name
	}
	if text.Name != name {
		return oci.Errorf(oci.CodeQueryInvalid, "a rule keeps its name; make one of the other name, and remove this one")
	}
	row, err := rowOf(tx, text)
	if err != nil {
		return err
	}
	row.ID, row.Version, row.ChangedAt, row.ChangedBy = was.ID, was.Version, tx.Now(), c.Account.ID
	if version != 0 {
		row.Version = version
	}
	if err := faces(tx, row); err != nil {
		return err
	}
	if err := tx.Replication().Change(row); err != nil {
		return err
	}
	if was.PeerID != row.PeerID || was.Inward != row.Inward {
		if err := tx.Replication().Forget(row.ID); err != nil {
			return err
		}
	}
	return beginRow(tx, row)
}

// changed does a change of rules that an admin asks for, and lets it act.
func (d *door) changed(ctx context.Context, kind record.EventKind, name, detail string, do func(*record.Tx, access.Caller) error) error {
	c := callers.From(ctx)
	if err := d.Access.Admin(c, mayReplicate); err != nil {
		return desk.Refusal(err)
	}
	e := c.Event(kind)
	e.Subject, e.Detail = "replication rule "+name, detail
	err := d.Access.Change(ctx, c, e, func(tx *record.Tx) error { return do(tx, c) })
	if errors.Is(err, errTried) {
		return err
	}
	if err != nil {
		return replicationRefusal(err)
	}
	return d.Replicator.Reload(ctx)
}

func sayRule(t rule.ReplicationText) string {
	says := "copies " + strings.Join(t.Copy, ", ")
	if t.To != "" {
		return says + " to " + t.To
	}
	return says + " from " + t.From
}

func textOf(r api.ReplicationRule) rule.ReplicationText { return rule.ReplicationText(r) }

func (d *door) replications(ctx context.Context, _ *struct{}) (*desk.Reply[api.ReplicationList], error) {
	if err := d.maySee(callers.From(ctx)); err != nil {
		return nil, desk.Refusal(err)
	}
	all, err := d.Records.View(ctx).Replication().All()
	list := api.ReplicationList{Replications: make([]api.Replication, len(all))}
	for i, row := range all {
		if list.Replications[i], err = d.replicationOf(ctx, row); err != nil {
			break
		}
	}
	return desk.OK(list, err)
}

func (d *door) replication(ctx context.Context, in *ReplicationInput) (*desk.Reply[api.Replication], error) {
	if err := d.maySee(callers.From(ctx)); err != nil {
		return nil, desk.Refusal(err)
	}
	return d.shown(ctx, in.Name)
}

func (d *door) shown(ctx context.Context, name string) (*desk.Reply[api.Replication], error) {
	row, err := d.Records.View(ctx).Replication().Get(name)
	if err != nil {
		return nil, replicationRefusal(err)
	}
	return desk.OK(d.replicationOf(ctx, row))
}

func seconds(t time.Duration, known bool) *int64 {
	if !known {
		return nil
	}
	n := int64((t + time.Second - 1) / time.Second)
	return &n
}

func (d *door) replicationOf(ctx context.Context, row replication.Rule) (api.Replication, error) {
	s, err := d.Replicator.Status(ctx, row)
	if err != nil {
		return api.Replication{}, err
	}
	shown := api.Replication{
		ReplicationRule: api.ReplicationRule(row.Spec), Paused: row.Paused, Version: row.Version,
		Lag: int64(s.Lag / time.Second), Due: s.Due, Places: s.Places, Waits: s.Waits, Conflicting: s.Conflicts, Asks: s.Asks, Failing: s.Failing, Copies: s.Copies,
		BytesLeft: s.Left, BytesRate: s.Rate, SecondsLeft: seconds(s.In, s.In > 0), Error: s.Error, NextIn: seconds(s.NextIn, s.NextIn >= 0), Going: []api.GoingImage{},
		RanAt: desk.Moment(row.RanAt), MadeAt: desk.Moment(row.MadeAt), MadeBy: d.NameOf(row.MadeBy), ChangedAt: desk.Moment(row.ChangedAt), ChangedBy: d.NameOf(row.ChangedBy),
	}
	// As the peer is called now.
	if p, err := d.Records.View(ctx).Peers().ByID(row.PeerID); err == nil && row.Inward {
		shown.From = p.Name
	} else if err == nil {
		shown.To = p.Name
	}
	if s.Says != "" {
		shown.Error, shown.AgainIn = s.Says, seconds(s.AgainIn, true)
	}
	for _, g := range s.Going {
		shown.Going = append(shown.Going, api.GoingImage{Repository: g.Repository, Tag: g.Tag, Digest: g.Digest, Target: g.Target, Bytes: g.Bytes, Moved: g.Moved, BeganAt: g.Began})
	}
	shown.State = stateOf(shown, s.Closed)
	return shown, nil
}

func stateOf(r api.Replication, closed bool) string {
	switch due := r.Due+r.Places > 0; {
	case r.Paused:
		return "paused"
	case r.Error != "":
		return "failing"
	case r.Conflicting > 0:
		return "conflicts"
	case r.Asks > 0:
		return "asks"
	case due && closed:
		return "closed"
	case len(r.Going) > 0:
		return "going"
	case due:
		return "behind"
	}
	return "well"
}

func (d *door) makeReplication(ctx context.Context, in *struct{ Body api.ReplicationRule }) (*desk.Reply[api.Replication], error) {
	text := textOf(in.Body)
	err := d.changed(ctx, record.EventReplicationMade, text.Name, sayRule(text), func(tx *record.Tx, c access.Caller) error { return makeRow(tx, c, text) })
	if err != nil {
		return nil, err
	}
	return d.shown(ctx, text.Name)
}

func (d *door) changeReplication(ctx context.Context, in *struct {
	ReplicationInput
	Body api.ChangeReplication
}) (*desk.Reply[api.Replication], error) {
	text := textOf(in.Body.ReplicationRule)
	err := d.changed(ctx, record.EventReplicationChanged, in.Name, sayRule(text), func(tx *record.Tx, c access.Caller) error {
		return changeRow(tx, c, in.Name, text, in.Body.Version)
	})
	if err != nil {
		return nil, err
	}
	return d.shown(ctx, in.Name)
}

func (d *door) removeReplication(ctx context.Context, in *ReplicationInput) (*desk.None, error) {
	err := d.changed(ctx, record.EventReplicationRemoved, in.Name, "what it copied stays", func(tx *record.Tx, _ access.Caller) error { return removeRow(tx, in.Name) })
	if err != nil {
		return nil, err
	}
	return desk.Done(nil)
}

func removeRow(tx *record.Tx, name string) error {
	row, err := tx.Replication().Get(name)
	if err != nil {
		return err
	}
	return tx.Replication().Remove(row.ID)
}

func (d *door) pauseReplication(ctx context.Context, in *struct {
	ReplicationInput
	Body api.PauseReplication
}) (*desk.Reply[api.Replication], error) {
	says := map[bool]string{true: "is paused", false: "acts again"}[in.Body.Paused]
	err := d.changed(ctx, record.EventReplicationChanged, in.Name, says, func(tx *record.Tx, _ access.Caller) error {
		row, err := tx.Replication().Get(in.Name)
		if err != nil {
			return err
		}
		return tx.Replication().Pause(row.ID, in.Body.Paused)
	})
	if err != nil {
		return nil, err
	}
	return d.shown(ctx, in.Name)
}

func (d *door) runReplication(ctx context.Context, in *struct {
	ReplicationInput
	Body api.RunReplication
}) (*desk.Reply[api.Replication], error) {
	says := "runs now"
	var settled rule.Name
	if in.Body.Settle != "" {
		repository, tag, _ := strings.Cut(in.Body.Settle, ":")
		name, err := oci.ParseName(repository)
		parsed, wrong := oci.ParseTag(tag)
		if err := errors.Join(err, wrong); err != nil {
			return nil, desk.Refusal(oci.Errorf(oci.CodeQueryInvalid, "settle: name a tag as REPOSITORY:TAG"))
		}
		settled, says = rule.Name{Repository: name, Tag: parsed}, "overwrites "+in.Body.Settle+" on the other side"
	}
	if in.Body.Removals {
		says += ", with the removals that waited for a word"
	}
	id := int64(0)
	err := d.changed(ctx, record.EventReplicationRun, in.Name, says, func(tx *record.Tx, _ access.Caller) error {
		row, err := tx.Replication().Get(in.Name)
		if err != nil {
			return err
		}
		if id = row.ID; row.Paused {
			return oci.Errorf(oci.CodeInUse, "the rule %s is paused; let it act again first, with: warthesis replication pause --end", in.Name)
		}
		if settled.Tag != "" {
			found, err := tx.Replication().Settle(row.ID, settled.Repository, settled.Tag)
			if err == nil && !found {
				err = oci.Errorf(oci.CodeManifestUnknown, "%s is not in conflict by the rule %s", in.Body.Settle, in.Name)
			}
			return err
		}
		if in.Body.Removals {
			if _, err := tx.Replication().Approve(row.ID); err != nil {
				return err
			}
		}
		return replicate.RunAll(tx, row)
	})
	if err != nil {
		return nil, err
	}
	d.Replicator.Retry(id)
	return d.shown(ctx, in.Name)
}
