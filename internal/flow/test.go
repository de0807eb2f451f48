package flow

import (
	"context"
	"errors"
	"strings"

	"warthesis/internal/oci"
	"warthesis/internal/peer"
	"warthesis/internal/peer/walk"
	"warthesis/internal/record"
	"warthesis/internal/record/peers"
)

// Try says how far a test of a peer goes.
type Try struct {
	// Repository, below the peer's prefix, is looked at; "" is the first that is listed.
	Repository oci.Name
	// Push tells that a push is tried there as well, which leaves nothing behind.
	Push bool
}

// Test walks the way to a peer, and finds out what it can do. It returns the peer with what
// was found; what went wrong is in the steps and no error.
func (p *Peers) Test(ctx context.Context, is peers.Peer, t Try) (peers.Peer, error) {
	way, err := p.way(is, testPatience)
	if err != nil {
		return is, err
	}
	w := walk.Begin(way, nil)
	w.ToAPI(ctx)
	can := peers.Can{}
	w.Step("login", func() (string, error) { return lookLogin(ctx, way.Client, is, &can) })
	name := is.Repository(t.Repository)
	if t.Repository == "" {
		name = ""
	}
	w.Step("read", func() (found string, err error) {
		if name == "" && can.Catalogue {
			if name, err = firstBelow(ctx, way.Client, is.Prefix); err != nil {
				return "", err
			}
		}
		if name == "" && t.Push {
			return "", oci.Errorf(oci.CodeQueryInvalid, "no repository is named and the peer lists none; name the one that is to be pushed to")
		}
		if name == "" {
			return "no repository is named, and the peer lists none: whether one may be read was not looked at", nil
		}
		return lookInto(ctx, way.Client, name, t.Push, &can)
	})
	if t.Push {
		w.Push(ctx, name)
		w.Step("more", func() (string, error) { return lookPush(ctx, way.Client, name, &can) })
	} else {
		can.DeletesTags, can.Chunks, can.Pushed = is.Can.DeletesTags, is.Can.Chunks, is.Can.Pushed
	}
	steps, failed := w.Steps()
	is.Steps, is.Failed, is.TestedAt, is.Can = make([]peers.Step, len(steps)), failed, record.StampOf(p.clock.Now()), can
	for i, s := range steps {
		is.Steps[i] = peers.Step(s)
	}
	return is, ctx.Err()
}

func lookLogin(ctx context.Context, client *peer.Client, is peers.Peer, can *peers.Can) (string, error) {
	checked, err := client.CheckLogin(ctx)
	if err != nil {
		return "", err
	}
	if can.Catalogue, err = client.HasCatalogue(ctx); err != nil {
		return "", err
	}
	if can.Digests, err = client.HasDigests(ctx); err != nil {
		return "", err
	}
	switch {
	case is.Account == "":
		return "there is none; the peer lets anybody in as far as it lets them", nil
	case !checked:
		return "the peer did not ask for one; it lets anybody in as far as it lets them", nil
	}
	return "as " + is.Account, nil
}

// firstBelow returns the first repository that a peer lists below a prefix, "" for none.
func firstBelow(ctx context.Context, client *peer.Client, prefix oci.Name) (oci.Name, error) {
	after, within := "", ""
	if prefix != "" {
		// What stands just before the first name that may be meant.
		after, within = string(prefix)+"/", string(prefix)+"/"
	}
	names, _, err := client.Repositories(ctx, after)
	if err != nil {
		return "", err
	}
	for _, found := range names {
		if name, err := oci.ParseName(found); err == nil && strings.HasPrefix(found, within) {
			return name, nil
		}
	}
	return "", nil
}

func lookInto(ctx context.Context, client *peer.Client, name oci.Name, mayMake bool, can *peers.Can) (string, error) {
	tags, err := client.SomeTags(ctx, name)
	switch {
	case err != nil && mayMake && isUnknown(err):
		return string(name) + " is not there, or not for this login to know of; a push may make it", nil
	case err != nil:
		return "", err
	}
	if can.Referrers, err = client.HasReferrers(ctx, name); err != nil {
		return "", err
	}
	if len(tags) == 0 {
		return string(name) + " may be read; it has no tags", nil
	}
	return string(name) + " may be read; it has tags such as " + strings.Join(tags, ", "), nil
}

func isUnknown(err error) bool {
	return errors.Is(err, oci.CodeNameUnknown) || errors.Is(err, oci.CodeManifestUnknown)
}

func lookPush(ctx context.Context, client *peer.Client, name oci.Name, can *peers.Can) (says string, err error) {
	if can.Chunks, err = client.TakesChunks(ctx, name); err != nil {
		return "", err
	}
	if can.DeletesTags, err = client.DeletesTags(ctx, name); err != nil {
		return "", err
	}
	can.Pushed = true
	words := map[bool]string{true: "yes", false: "no"}
	return "blobs in pieces: " + words[can.Chunks] + "; removing tags alone: " + words[can.DeletesTags], nil
}
