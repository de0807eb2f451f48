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
// that these are found by the digests of their layers unpacked, and meant by rules that ask
// for labels. breathe is called between some of them, and ends it by an error; it goes on
// where it was.
func (r *Registry) ReadConfigs(ctx context.Context, breathe func() error) error {
	for {
		configs, upTo, err := r.records.View(ctx).DiffIDs().ToRead(configsAtOnce)
		if err != nil || upTo == 0 {
			return err
		}
		found := map[oci.Digest]*inspect.Config{}
		for _, c := range configs {
			if !oci.IsImageConfig(c.MediaType) || c.Size > inspect.ConfigLimit || found[c.Digest] != nil {
				continue
			}
			if found[c.Digest], err = r.config(ctx, c.Digest); err != nil {
				slog.Warn("the config of an image cannot be read: its layers are not found by what they unpack to, nor is it meant by its labels", "digest", c.Digest, "error", err)
			}
		}
		err = r.records.Update(ctx, "read-configs", func(tx *record.Tx) error {
			for _, c := range configs {
				config := found[c.Digest]
				if config == nil {
					continue
				}
				if err := errors.Join(tx.DiffIDs().Keep(c.RepositoryID, c.Digest, inspect.DiffIDs(*config)), tx.Keeping().KeepLabels(c.ManifestID, inspect.Labels(*config))); err != nil {
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

// config reads one that is here; nil where it is not.
func (r *Registry) config(ctx context.Context, digest oci.Digest) (*inspect.Config, error) {
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
	return &config, err
}
