package serve

import (
	"context"
	"fmt"
	"log/slog"
	"path/filepath"

	"warthesis/internal/blob"
	"warthesis/internal/config"
	"warthesis/internal/record"
)

// recordsName is the file of the records in the data folder.
const recordsName = "warthesis.db"

// checkRecords refuses to begin new records beside stored blobs: they are missing, and an
// empty registry would treat every blob as garbage.
func checkRecords(c config.Config, blobs *blob.Store) error {
	at := filepath.Join(c.Data, recordsName)
	fresh, err := record.IsNew(at)
	if err != nil {
		return fmt.Errorf("open the records %s: %w", at, err)
	}
	if !fresh && c.AcceptRecords {
		if err := record.Accept(context.Background(), at); err != nil {
			return fmt.Errorf("accept the records %s: %w", at, err)
		}
		slog.Warn("the records were accepted as they are, with new page sums", "file", at)
	}
	if !fresh || c.NewRecords {
		return nil
	}
	has, err := blobs.HasContent()
	if err != nil || !has {
		return err
	}
	return fmt.Errorf("the records %s are missing or empty, and blobs are stored beside them. Restore the records from a backup, "+
		"or start once with --new-records for an empty registry; the stored blobs are then kept until an admin runs a sweep with --unrecorded", at)
}
