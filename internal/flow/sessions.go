package flow

import (
	"context"
	"log/slog"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/peers"
)

// sessionsFor is for how long uploads to peers that did not end are gone on with.
const sessionsFor = 7 * 24 * time.Hour

// sessions remembers uploads to peers that did not end, over ends of the service. What cannot
// be remembered begins anew.
type sessions struct{ of *Peers }

// Find returns where an upload is gone on with.
func (s sessions) Find(registry string, name oci.Name, digest oci.Digest) string {
	at, err := s.of.records.View(context.Background()).Peers().FindUpload(registry, name, digest)
	if err != nil {
		return ""
	}
	return at
}

// Keep notes an upload.
func (s sessions) Keep(registry string, name oci.Name, digest oci.Digest, at string) {
	now := s.of.clock.Now()
	s.note(func(tx *record.Tx) error {
		return tx.Peers().KeepUpload(peers.Upload{Registry: registry, Name: name, Digest: digest, At: at, KeptAt: record.StampOf(now)}, record.StampOf(now.Add(-sessionsFor)))
	})
}

// Drop forgets one.
func (s sessions) Drop(registry string, name oci.Name, digest oci.Digest) {
	s.note(func(tx *record.Tx) error { return tx.Peers().DropUpload(registry, name, digest) })
}

func (s sessions) note(change func(*record.Tx) error) {
	if err := s.of.records.Update(context.Background(), "peer-upload", change); err != nil {
		slog.Debug("an upload to a peer could not be noted; after a break it begins anew", "error", err)
	}
}
