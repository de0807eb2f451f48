package flow

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"warthesis/internal/api"
	"warthesis/internal/flow/follow"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/follows"
	"warthesis/internal/record/peers"
	"warthesis/internal/rule"
)

// FollowInput names a namespace. It is exported for the API library.
type FollowInput struct {
	Namespace string `query:"namespace" required:"true" maxLength:"255"`
}

func (d *door) follows(ctx context.Context, _ *struct{}) (*desk.Reply[api.FollowList], error) {
	if err := d.maySee(callers.From(ctx)); err != nil {
		return nil, desk.Refusal(err)
	}
	all, err := d.Records.View(ctx).Follows().All()
	list := api.FollowList{Follows: []api.Follow{}}
	for _, f := range all {
		// What namespaces followed that were removed is not told.
		if n, there := d.Records.Rights().NamespaceByID(f.NamespaceID); there {
			list.Follows = append(list.Follows, d.followOf(ctx, n.Name, f))
		}
	}
	slices.SortFunc(list.Follows, func(a, b api.Follow) int { return strings.Compare(a.Namespace, b.Namespace) })
	return desk.OK(list, err)
}

func (d *door) followOf(ctx context.Context, namespace string, f follows.Follow) api.Follow {
	shown := api.Follow{
		Namespace: namespace, Sources: []api.FollowSource{}, FreshFor: rule.Span(f.FreshFor).String(), Complete: f.Complete, Anonymous: f.Anonymous,
		SetAt: desk.Moment(f.SetAt), SetBy: d.NameOf(f.SetBy),
	}
	since := record.StampOf(d.Records.Clock().Now().Add(-30 * 24 * time.Hour))
	if s, err := d.Records.View(ctx).Follows().Shares(f.NamespaceID, since); err == nil {
		shown.Served = api.FollowServed{Here: s.Here, HereBytes: s.HereBytes, There: s.There, ThereBytes: s.ThereBytes}
	}
	for _, s := range f.Sources {
		if p, err := d.Records.View(ctx).Peers().ByID(s.PeerID); err == nil {
			shown.Sources = append(shown.Sources, api.FollowSource{Peer: p.Name, Prefix: s.Prefix, Patterns: s.Patterns})
		}
	}
	return shown
}

// notFollowing is that a namespace follows nobody.
func notFollowing(namespace string) error {
	return oci.Errorf(oci.CodeNameUnknown, "the namespace %s follows no peer", namespace)
}

func (d *door) follow(ctx context.Context, in *FollowInput) (*desk.Reply[api.Follow], error) {
	c := callers.From(ctx)
	if d.Access.SeesRuns(c) {
		if err := d.maySee(c); err != nil {
			return nil, desk.Refusal(err)
		}
	} else if err := d.Access.MayManage(ctx, c, oci.Name(in.Namespace)); err != nil {
		return nil, desk.Refusal(err)
	}
	n, there := d.Records.Rights().Namespace(in.Namespace)
	if !there {
		return nil, desk.Refusal(oci.Errorf(oci.CodeNameUnknown, "there is no namespace %s here", in.Namespace))
	}
	f, err := d.Records.View(ctx).Follows().Of(n.ID)
	if errors.Is(err, follows.ErrNone) {
		err = notFollowing(in.Namespace)
	}
	return desk.OK(d.followOf(ctx, n.Name, f), err)
}

// readSources reads which peers are to be followed, in the change that sets it.
func readSources(tx *record.Tx, given []api.FollowSource) (all []follows.Source, says []string, err error) {
	for _, s := range given {
		p, err := tx.Peers().Get(s.Peer)
		if errors.Is(err, peers.ErrNone) {
			return nil, nil, oci.Errorf(oci.CodeQueryInvalid, "there is no peer %q; an admin makes one with: warthesis peer make", s.Peer)
		}
		if err != nil {
			return nil, nil, err
		}
		if s.Prefix != "" {
			if _, err := oci.ParseName(string(s.Prefix)); err != nil {
				return nil, nil, err
			}
		}
		for _, text := range s.Patterns {
			if _, err := rule.ParsePattern(text); err != nil {
				return nil, nil, oci.Errorf(oci.CodeQueryInvalid, "%v", err)
			}
		}
		all = append(all, follows.Source{PeerID: p.ID, Prefix: s.Prefix, Patterns: s.Patterns})
		says = append(says, strings.TrimSuffix(p.Name+"/"+string(s.Prefix), "/"))
	}
	return all, says, nil
}

func (d *door) setFollow(ctx context.Context, in *struct {
	FollowInput
	Body api.SetFollow
}) (*desk.Reply[api.Follow], error) {
	c := callers.From(ctx)
	if err := d.Access.Admin(c, "say what namespaces follow"); err != nil {
		return nil, desk.Refusal(err)
	}
	f := follows.Follow{FreshFor: follow.DefaultFreshFor, Complete: in.Body.Complete, Anonymous: in.Body.Anonymous, SetBy: c.Account.ID}
	if in.Body.FreshFor != "" {
		fresh, err := desk.ReadSpan("fresh_for", in.Body.FreshFor)
		if err != nil {
			return nil, desk.Refusal(err)
		}
		f.FreshFor = fresh
	}
	e := c.Event(record.EventFollowSet)
	e.Subject = "namespace " + in.Namespace
	err := d.Access.ChangeIn(ctx, c, e, func(tx *record.Tx) (at record.Event, err error) {
		n, err := tx.Namespace(in.Namespace)
		if errors.Is(err, record.ErrNotFound) {
			err = oci.Errorf(oci.CodeNameUnknown, "there is no namespace %s here", in.Namespace)
		}
		if err != nil {
			return at, err
		}
		var says []string
		if f.Sources, says, err = readSources(tx, in.Body.Sources); err != nil {
			return at, err
		}
		f.NamespaceID, f.SetAt = n.ID, tx.Now()
		at.NamespaceID, at.Detail = n.ID, fmt.Sprintf("follows %s, fresh for %s", strings.Join(says, ", "), rule.Span(f.FreshFor))
		return at, tx.Follows().Set(f)
	})
	if err == nil {
		err = d.Follower.Reload(ctx)
	}
	return desk.OK(d.followOf(ctx, in.Namespace, f), err)
}

func (d *door) removeFollow(ctx context.Context, in *FollowInput) (*desk.None, error) {
	c := callers.From(ctx)
	if err := d.Access.Admin(c, "say what namespaces follow"); err != nil {
		return nil, desk.Refusal(err)
	}
	e := c.Event(record.EventFollowSet)
	e.Subject = "namespace " + in.Namespace
	err := d.Access.ChangeIn(ctx, c, e, func(tx *record.Tx) (at record.Event, err error) {
		n, err := tx.Namespace(in.Namespace)
		if err == nil {
			at.NamespaceID, at.Detail = n.ID, "follows nobody any more"
			err = tx.Follows().Remove(n.ID)
		}
		if errors.Is(err, record.ErrNotFound) || errors.Is(err, follows.ErrNone) {
			err = notFollowing(in.Namespace)
		}
		return at, err
	})
	if err == nil {
		err = d.Follower.Reload(ctx)
	}
	return desk.Done(err)
}
