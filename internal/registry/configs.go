package registry

import (
	"context"
	"errors"
	"io"
	"log/slog"

	"warthesis/internal/inspect"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// configsAtOnce is how many configs are read between two looks at who waits.
const configsAtOnce = 50

// ReadConfigs reads the configs of images that came before it was kept what is in them, so
// that these are found by the digests of their layers unpacked. breathe is called between
// some of them, and ends it by an error; it goes on where it was.
func (r *Registry) ReadConfigs(ctx context.Context, breathe func() error) error {
	for {
		configs, upTo, err := r.records.View(ctx).DiffIDs().ToRead(configsAtOnce)
		if err != nil || upTo == 0 {
			return err
		}
		found := map[oci.Digest][]oci.Digest{}
		for _, c := range configs {
			if !oci.IsImageConfig(c.MediaType) || c.Size > inspect.ConfigLimit || found[c.Digest] != nil {
				continue
			}
			if found[c.Digest], err = r.diffIDs(ctx, c.Digest); err != nil {
				slog.Warn("the config of an image cannot be read, and its layers are not found by what they unpack to", "digest", c.Digest, "error", err)
			}
		}
		err = r.records.Update(ctx, "read-configs", func(tx *record.Tx) error {
			for _, c := range configs {
				if err := tx.DiffIDs().Keep(c.RepositoryID, c.Digest, found[c.Digest]); err != nil {
					return err
				}
			}
			return tx.DiffIDs().Done(upTo)
		})
		if err := errors.Join(err, breathe()); err != nil {
			return err
		}
	}
}

// diffIDs reads those of a config that is here.
func (r *Registry) diffIDs(ctx context.Context, digest oci.Digest) ([]oci.Digest, error) {
	b, err := r.records.View(ctx).Blob(digest)
	if errors.Is(err, record.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	f, _, err := r.openContent(ctx, b)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, inspect.ConfigLimit))
	if err != nil {
		return nil, err
	}
	config, err := inspect.ReadConfig(raw)
	return inspect.DiffIDs(config), err
}
