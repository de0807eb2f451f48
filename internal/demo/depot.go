package demo

import (
	"context"
	"fmt"

	"warthesis/internal/access"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/registry"
)

// Headquarters is the account by which the registry at headquarters copies to the depot's.
const Headquarters = "headquarters"

// SeedDepot fills an empty registry with what the Tarn depot has before anything is copied to
// it: whose it is, where images go, and a build that somebody made there by hand.
func SeedDepot(ctx context.Context, r *registry.Registry, a *access.Access) error {
	if err := a.MakeFirstAdmin(ctx, Password); err != nil {
		return err
	}
	admin, err := a.Password(ctx, "admin", Password, "")
	if err != nil {
		return err
	}
	for _, account := range []access.NewAccount{
		{Name: "ines", Kind: record.Person, Description: "Platform engineer", Admin: true, Password: Password},
		{Name: Headquarters, Kind: record.Machine, Description: "Copies what runs on trains and in signal boxes"},
	} {
		if _, err := a.MakeAccount(ctx, admin, account); err != nil {
			return err
		}
	}
	for name, about := range map[string]string{"signals": "What goes to signal boxes", "rolling": "What runs on the trains", "base": "Base images, as headquarters has them"} {
		if _, err := a.MakeNamespace(ctx, admin, name, access.PlaceChange{Description: &about}); err != nil {
			return err
		}
		if name == "base" {
			continue
		}
		if err := a.GiveRole(ctx, admin, access.Member{Account: Headquarters}, oci.Name(name), record.Curator); err != nil {
			return err
		}
	}
	for _, of := range applications {
		if of.name != "rolling/telemetry" {
			continue
		}
		made, err := of.build(&layers{map[string]layer{}}, "5.1.1-depot", baseVersions[len(baseVersions)-1])
		if err != nil {
			return fmt.Errorf("make the sample images: %w", err)
		}
		return pushImage(registry.WithCaller(ctx, registry.Caller{Account: "ines"}), r, of.name, made, []oci.Tag{"stable", "5.1.1-depot"})
	}
	return nil
}
