package record

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"warthesis/internal/clock"
	"warthesis/internal/oci"
	"warthesis/internal/record/rulelists"
	"warthesis/internal/record/seals"
)

// BenchmarkAHundredRules is what rules cost a change that moves a tag: how long they are
// asked within it.
func BenchmarkAHundredRules(b *testing.B) {
	s, err := Open(filepath.Join(b.TempDir(), "records.db"), func(time.Duration) clock.Clock { return startAt(0) })
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()
	var words strings.Builder
	for i := range 99 {
		fmt.Fprintf(&words, "- seal: [\"other-%d/*:<version>\", \"*:build-%d-*\"]\n", i, i)
	}
	words.WriteString("- free: \"*\"\n")
	tag := seals.Tag{Name: "1.2.3-rc.1", Digest: oci.Digest("sha256:x")}
	var in Repository
	set := func(tx *Tx) error {
		ensured, err := tx.EnsureRepository("n/a", Maker{Namespace: true})
		if err != nil {
			return err
		}
		in = ensured.Repository
		return tx.RuleLists().Set(rulelists.List{Key: rulelists.Key{Kind: "immutability", NamespaceID: ensured.NamespaceID}, Words: words.String(), Reason: "x"}, nil)
	}
	if err := s.Update(ctx, "test", set); err != nil {
		b.Fatal(err)
	}
	err = s.Update(ctx, "test", func(tx *Tx) error {
		for b.Loop() {
			if err := tx.Seals(in, tx.Served()).Check(tag); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		b.Fatal(err)
	}
}
