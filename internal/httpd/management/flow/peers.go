package flow

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/flow"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/peers"
)

// PeerInput names a peer. It is exported for the API library.
type PeerInput struct {
	Name string `path:"name" maxLength:"64"`
}

// refusal translates the kinds of errors that peers have.
func refusal(err error) error {
	switch {
	case errors.Is(err, peers.ErrNone):
		return huma.Error404NotFound("there is no peer of that name")
	case errors.Is(err, peers.ErrTaken):
		return huma.Error409Conflict("there is a peer of that name already; change it, or take another name")
	case errors.Is(err, peers.ErrMost):
		return huma.Error409Conflict(fmt.Sprintf("there are %d peers, which is the most; remove one", peers.Most))
	case errors.Is(err, peers.ErrChanged):
		return huma.Error412PreconditionFailed("the peer was changed by somebody else meanwhile; look at it, and try again")
	}
	return desk.Refusal(err)
}

func (d *door) mayMake(c access.Caller, what string) error { return d.Access.Admin(c, what) }

// maySee refuses whoever may not see peers: those with a role on the registry may, and
// those who are owners of a place that uses one see that one.
func (d *door) maySee(c access.Caller) error { return d.Access.MaySeePeers(c) }

func (d *door) peers(ctx context.Context, _ *struct{}) (*desk.Reply[api.PeerList], error) {
	if err := d.maySee(callers.From(ctx)); err != nil {
		return nil, desk.Refusal(err)
	}
	all, err := d.Records.View(ctx).Peers().All()
	list := api.PeerList{Peers: make([]api.Peer, len(all))}
	for i, p := range all {
		if list.Peers[i], err = d.usedPeer(ctx, p); err != nil {
			break
		}
	}
	return desk.OK(list, err)
}

func (d *door) peer(ctx context.Context, in *PeerInput) (*desk.Reply[api.Peer], error) {
	c := callers.From(ctx)
	found, err := d.Records.View(ctx).Peers().Get(in.Name)
	var uses sights
	if err == nil && !d.Access.SeesRuns(c) {
		if uses, err = d.sights(ctx, c, found); err != nil {
			return nil, desk.Refusal(err)
		}
	}
	if len(uses) == 0 {
		if err := d.maySee(c); err != nil {
			return nil, desk.Refusal(err)
		}
	}
	if err != nil {
		return nil, refusal(err)
	}
	if !d.Access.SeesRuns(c) {
		// What else uses it is others' business.
		return desk.OK(d.peerOf(found), nil)
	}
	return desk.OK(d.usedPeer(ctx, found))
}

// usedPeer is a peer with what uses it.
func (d *door) usedPeer(ctx context.Context, p peers.Peer) (api.Peer, error) {
	shown := d.peerOf(p)
	for _, id := range p.TagAccounts {
		shown.TagAccounts = append(shown.TagAccounts, d.NameOf(id))
	}
	by, err := d.Records.View(ctx).Follows().By(p.ID)
	for _, namespace := range by {
		shown.UsedBy = append(shown.UsedBy, "namespace "+namespace+" follows it")
	}
	rules, wrong := d.Records.View(ctx).Replication().By(p.ID)
	for _, name := range rules {
		shown.UsedBy = append(shown.UsedBy, "replication rule "+name)
	}
	imports, bad := d.Records.View(ctx).Arrivals().ImportsOf(p.ID)
	for _, name := range imports {
		shown.UsedBy = append(shown.UsedBy, "import "+name)
	}
	return shown, errors.Join(err, wrong, bad)
}

func (d *door) peerOf(p peers.Peer) api.Peer {
	shown := api.Peer{
		Name: p.Name, Address: p.Address, Prefix: p.Prefix, Description: p.Description, Account: p.Account, Unencrypted: p.Unencrypted,
		Can:   api.PeerCan{Catalogue: p.Can.Catalogue, Referrers: p.Can.Referrers, Digests: p.Can.Digests},
		Steps: make([]api.PeerStep, len(p.Steps)), Failed: p.Failed, TestedAt: desk.Moment(p.TestedAt),
		MadeAt: desk.Moment(p.MadeAt), MadeBy: d.NameOf(p.MadeBy), ChangedAt: desk.Moment(p.ChangedAt), ChangedBy: d.NameOf(p.ChangedBy), UsedBy: []string{},
	}
	for i := 0; i+2 <= len(p.Fingerprint); i += 2 {
		shown.Fingerprint += strings.ToUpper(p.Fingerprint[i:i+2]) + ":"
	}
	shown.Fingerprint = strings.TrimSuffix(shown.Fingerprint, ":")
	shown.Authority, shown.ClientCertificate = flow.Subject(p)
	if p.Can.Pushed {
		shown.Can.DeletesTags, shown.Can.Chunks = &p.Can.DeletesTags, &p.Can.Chunks
	}
	for i, s := range p.Steps {
		shown.Steps[i] = api.PeerStep(s)
	}
	return shown
}

func givenOf(g api.GivenPeer) flow.Given {
	return flow.Given{
		Address: g.Address, Prefix: g.Prefix, Description: g.Description, Account: g.Account, Secret: g.Secret,
		Authority: g.Authority, Fingerprint: g.Fingerprint, ClientCertificate: g.ClientCertificate, ClientKey: g.ClientKey, Unencrypted: g.Unencrypted,
	}
}

// test tests a peer as it is said to be.
func (d *door) test(ctx context.Context, is peers.Peer, t api.TryPeer) (peers.Peer, error) {
	try := flow.Try{Push: t.Push}
	if t.Repository != "" {
		name, err := oci.ParseName(t.Repository)
		if err != nil {
			return is, err
		}
		try.Repository = name
	}
	return d.Peers.Test(ctx, is, try)
}

func (d *door) makePeer(ctx context.Context, in *struct{ Body api.MakePeer }) (*desk.Reply[api.PeerTested], error) {
	c := callers.From(ctx)
	if err := d.mayMake(c, "make peers"); err != nil {
		return nil, desk.Refusal(err)
	}
	if err := flow.CheckName(in.Body.Name); err != nil {
		return nil, desk.Refusal(err)
	}
	made, err := d.Peers.Apply(peers.Peer{Name: in.Body.Name}, givenOf(in.Body.GivenPeer))
	if err == nil {
		err = d.applyTagAccounts(&made, in.Body.GivenPeer)
	}
	if err == nil {
		made, err = d.test(ctx, made, in.Body.TryPeer)
	}
	if err != nil || in.Body.Try || made.Failed != "" && !in.Body.Failing {
		return desk.OK(api.PeerTested{Peer: d.peerOf(made)}, err)
	}
	e := c.Event(record.EventPeerMade)
	e.Subject, e.Detail = "peer "+made.Name, sayOf(made)+d.sayTagAccounts(made)
	err = d.Access.Change(ctx, c, e, func(tx *record.Tx) (err error) {
		made.MadeAt, made.MadeBy, made.ChangedAt, made.ChangedBy = tx.Now(), c.Account.ID, tx.Now(), c.Account.ID
		made, err = tx.Peers().Make(made)
		return err
	})
	if err != nil {
		return nil, refusal(err)
	}
	return desk.OK(api.PeerTested{Peer: d.peerOf(made), Kept: true}, nil)
}

// applyTagAccounts sets which accounts may change tags at a peer. It fails with
// oci.CodeQueryInvalid where one is none.
func (d *door) applyTagAccounts(to *peers.Peer, g api.GivenPeer) error {
	if g.TagAccounts == nil {
		return nil
	}
	to.TagAccounts = []int64{}
	for _, name := range *g.TagAccounts {
		account, there := d.Records.Rights().AccountNamed(name)
		if !there {
			return oci.Errorf(oci.CodeQueryInvalid, "tag_accounts: there is no account %.100q", name)
		}
		if !slices.Contains(to.TagAccounts, account.ID) {
			to.TagAccounts = append(to.TagAccounts, account.ID)
		}
	}
	return nil
}

// sayTagAccounts says in the audit log who may change tags at a peer.
func (d *door) sayTagAccounts(p peers.Peer) string {
	if len(p.TagAccounts) == 0 {
		return ""
	}
	names := make([]string, len(p.TagAccounts))
	for i, id := range p.TagAccounts {
		names[i] = d.NameOf(id)
	}
	return "; tags there may be changed by " + strings.Join(names, ", ")
}

// sayOf says in the audit log how a peer is reached.
func sayOf(p peers.Peer) string {
	says := "at " + p.Address
	if p.Unencrypted {
		says += ", by plain HTTP"
	}
	if p.Account != "" {
		says += ", as " + p.Account
	}
	if p.Failed != "" {
		says += ", though its test stopped at the step " + p.Failed
	}
	return says
}

func (d *door) changePeer(ctx context.Context, in *struct {
	PeerInput
	Body api.ChangePeer
}) (*desk.Reply[api.PeerTested], error) {
	c := callers.From(ctx)
	if err := d.mayMake(c, "change peers"); err != nil {
		return nil, desk.Refusal(err)
	}
	was, err := d.Records.View(ctx).Peers().Get(in.Name)
	if err != nil {
		return nil, refusal(err)
	}
	now, err := d.Peers.Apply(was, givenOf(in.Body.GivenPeer))
	if err == nil {
		err = d.applyTagAccounts(&now, in.Body.GivenPeer)
	}
	if err == nil {
		now, err = d.test(ctx, now, in.Body.TryPeer)
	}
	if err != nil || now.Failed != "" && !in.Body.Failing {
		return desk.OK(api.PeerTested{Peer: d.peerOf(now)}, err)
	}
	e := c.Event(record.EventPeerChanged)
	e.Subject, e.Detail = "peer "+now.Name, sayOf(now)+d.sayTagAccounts(now)
	err = d.Access.Change(ctx, c, e, func(tx *record.Tx) error {
		now.ChangedAt, now.ChangedBy = tx.Now(), c.Account.ID
		if err := tx.Peers().Change(now); err != nil || now.Address == was.Address && now.Prefix == was.Prefix {
			return err
		}
		return beginAnew(tx, now.ID)
	})
	if err != nil {
		return nil, refusal(err)
	}
	return desk.OK(api.PeerTested{Peer: d.peerOf(now), Kept: true}, d.Replicator.Reload(ctx))
}

func (d *door) removePeer(ctx context.Context, in *PeerInput) (*desk.None, error) {
	c := callers.From(ctx)
	if err := d.mayMake(c, "remove peers"); err != nil {
		return nil, desk.Refusal(err)
	}
	e := c.Event(record.EventPeerRemoved)
	e.Subject = "peer " + in.Name
	err := d.Access.Change(ctx, c, e, func(tx *record.Tx) error {
		found, err := tx.Peers().Get(in.Name)
		if err != nil {
			return err
		}
		if by, err := tx.Follows().By(found.ID); err != nil || len(by) > 0 {
			return errors.Join(err, inUse(found.Name, by))
		}
		if by, err := tx.Replication().By(found.ID); err != nil || len(by) > 0 {
			return errors.Join(err, oci.Errorf(oci.CodeInUse, "the peer %s is used by the replication rules %s; remove them first, with: warthesis replication remove", found.Name, strings.Join(by, ", ")))
		}
		if by, err := tx.Arrivals().ImportsOf(found.ID); err != nil || len(by) > 0 {
			return errors.Join(err, oci.Errorf(oci.CodeInUse, "the peer %s is used by the imports %s; remove them first, with: warthesis import remove", found.Name, strings.Join(by, ", ")))
		}
		return tx.Peers().Remove(found.ID)
	})
	if err != nil {
		return nil, refusal(err)
	}
	return desk.Done(nil)
}

// inUse is that a peer is used, nil where nobody uses it.
func inUse(name string, by []string) error {
	if len(by) == 0 {
		return nil
	}
	return oci.Errorf(oci.CodeInUse, "the peer %s is followed by %s; let them follow others first, with: warthesis follow set, or follow remove", name, strings.Join(by, ", "))
}

func (d *door) testPeer(ctx context.Context, in *struct {
	PeerInput
	Body api.TryPeer
}) (*desk.Reply[api.PeerTested], error) {
	c := callers.From(ctx)
	if err := d.mayMake(c, "test peers"); err != nil {
		return nil, desk.Refusal(err)
	}
	found, err := d.Records.View(ctx).Peers().Get(in.Name)
	if err != nil {
		return nil, refusal(err)
	}
	if found, err = d.test(ctx, found, in.Body); err != nil {
		return nil, refusal(err)
	}
	err = d.Records.Update(ctx, "peer-tested", func(tx *record.Tx) error { return tx.Peers().Tested(found) })
	return desk.OK(api.PeerTested{Peer: d.peerOf(found), Kept: true}, err)
}
