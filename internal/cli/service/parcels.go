package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"warthesis/internal/demo"
	"warthesis/internal/flow/carry"
	"warthesis/internal/flow/packing"
	"warthesis/internal/flow/parcel"
	"warthesis/internal/login"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
)

// boxLists are what Signal box 14 gets, month by month.
var boxLists = []struct{ month, list string }{
	{"october", "# Signal box 14 has no network: its images come on a disk, once a month\n\n%[1]s/base/go-runtime:12.6\n%[1]s/signals/relay:4.1.0\n%[1]s/signals/interlock-config:2026.07\n"},
	{"november", "# Signal box 14 has no network: its images come on a disk, once a month\n\n%[1]s/signals/relay:4.2.0\n%[1]s/signals/interlock-config:2026.08 # new points at the north end\n"},
}

// packForBox packs the monthly parcels of Signal box 14 beside the data of headquarters, where
// they are not there yet: the second holds only what the first did not.
func packForBox(ctx context.Context, folder, here string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	client := peer.New(here, peer.Options{Credentials: func(context.Context) (login.Credentials, error) {
		return login.Credentials{Account: "ines", Secret: demo.Password}, nil
	}})
	before := ""
	for _, month := range boxLists {
		name := filepath.Join(folder, "signal-box-14-"+month.month)
		if _, err := os.Stat(name + ".parcel"); errors.Is(err, fs.ErrNotExist) {
			text := fmt.Sprintf(month.list, here)
			if err := os.WriteFile(name+".list", []byte(text), 0o644); err != nil {
				return err
			}
			if err := packMonth(ctx, client, text, name+".parcel", before); err != nil {
				return err
			}
		}
		before = name + ".parcel"
	}
	return nil
}

func packMonth(ctx context.Context, client *peer.Client, text, name, before string) error {
	list, err := packing.Read([]byte(text))
	if err != nil {
		return err
	}
	items, err := list.Items(nil)
	if err != nil {
		return err
	}
	var without *parcel.Base
	var places map[oci.Digest][]oci.Name
	if before != "" {
		base, err := parcel.Open([]string{before}, "")
		if err != nil {
			return err
		}
		defer base.Close()
		without = &parcel.Base{Kind: "parcel", Name: filepath.Base(before), ID: base.ID}
		if places, err = base.Places(ctx); err != nil {
			return err
		}
	}
	has := func(_ context.Context, _ oci.Name, d oci.Descriptor) (bool, error) {
		return len(places[d.Digest]) > 0, nil
	}
	c := carry.New(carry.Options{From: func(string) (carry.From, error) { return client, nil }, To: parcel.Place{Has: has}})
	plan, err := c.Look(ctx, items)
	if err != nil {
		return err
	}
	for _, i := range plan.Images {
		if i.Lacks() {
			return i.Err
		}
	}
	arranged, err := parcel.Arrange(ctx, c, plan, without, places, 0)
	if err != nil {
		return err
	}
	_, err = arranged.Write(ctx, name, 4)
	return err
}
