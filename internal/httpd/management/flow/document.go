package flow

import (
	"context"
	"errors"
	"reflect"

	"warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/rule"
)

// document returns the rules as YAML.
func (d *door) document(ctx context.Context, _ *struct{}) (*desk.Reply[api.ReplicationDocument], error) {
	if err := d.maySee(callers.From(ctx)); err != nil {
		return nil, desk.Refusal(err)
	}
	all, err := d.Records.View(ctx).Replication().All()
	texts := make([]rule.ReplicationText, len(all))
	for i, row := range all {
		texts[i] = row.Spec
	}
	return desk.OK(api.ReplicationDocument{Text: rule.YAML(texts)}, err)
}

// errTried ends a change that was only tried.
var errTried = errors.New("it was only tried")

func (d *door) setDocument(ctx context.Context, in *struct{ Body api.SetReplications }) (*desk.Reply[api.ReplicationsSet], error) {
	said, err := rule.ReadReplications([]byte(in.Body.Text))
	if err != nil {
		return nil, desk.Refusal(oci.Errorf(oci.CodeQueryInvalid, "%v", err))
	}
	var set api.ReplicationsSet
	err = d.changed(ctx, record.EventReplicationChanged, "of the registry", "were set as a document", func(tx *record.Tx, c access.Caller) error {
		set = api.ReplicationsSet{Made: []string{}, Changed: []string{}, Removed: []string{}, Same: []string{}}
		if err := setRules(tx, c, said, &set); err != nil || !in.Body.Try {
			return err
		}
		return errTried
	})
	if errors.Is(err, errTried) {
		err = nil
	}
	if err != nil {
		return nil, err
	}
	return desk.OK(set, nil)
}

// setRules makes the rules that a document says those that there are.
func setRules(tx *record.Tx, c access.Caller, said []rule.Replication, set *api.ReplicationsSet) error {
	all, err := tx.Replication().All()
	if err != nil {
		return err
	}
	stay := map[string]rule.Replication{}
	for _, r := range said {
		stay[r.Name] = r
	}
	there := map[string]bool{}
	for _, row := range all {
		r, stays := stay[row.Name]
		there[row.Name] = stays
		switch {
		case !stays:
			set.Removed = append(set.Removed, row.Name)
			err = tx.Replication().Remove(row.ID)
		case reflect.DeepEqual(r.ReplicationText, row.Spec):
			set.Same = append(set.Same, row.Name)
		default:
			set.Changed = append(set.Changed, row.Name)
			err = changeRow(tx, c, row.Name, r.ReplicationText, 0)
		}
		if err != nil {
			return err
		}
	}
	for _, r := range said {
		if there[r.Name] {
			continue
		}
		set.Made = append(set.Made, r.Name)
		if err := makeRow(tx, c, r.ReplicationText); err != nil {
			return err
		}
	}
	return nil
}
