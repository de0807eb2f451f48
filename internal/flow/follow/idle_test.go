package follow

import (
	"context"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/blob"
	"warthesis/internal/clock"
	"warthesis/internal/flow"
	"warthesis/internal/oci"
	"warthesis/internal/outward"
	"warthesis/internal/record"
	"warthesis/internal/registry"
	"warthesis/internal/secret"
)

// What came in part and has no tag goes when nobody pulled it for thirty days of service; what
// a tag points to stays.
func TestKnownImagesWithoutATagGoWhenNobodyPullsThem(t *testing.T) {
	ctx := registry.WithCaller(context.Background(), registry.Caller{Makes: record.Maker{Namespace: true}})
	root := t.TempDir()
	blobs, err := blob.Open(root, blob.Options{FreeSpace: -1})
	require.NoError(t, err)
	clk := clock.NewSet(time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC))
	records, err := record.Open(filepath.Join(root, "warthesis.db"), func(time.Duration) clock.Clock { return clk })
	require.NoError(t, err)
	reg, err := registry.New(blobs, records, clk, registry.Limits{})
	require.NoError(t, err)
	box, err := secret.Open(filepath.Join(root, "secrets.key"))
	require.NoError(t, err)
	f, err := New(reg, records, flow.NewPeers(records, clk, box, outward.Reach{}, "test", 1<<20), clk)
	require.NoError(t, err)
	t.Cleanup(func() {
		f.Close()
		require.NoError(t, reg.Close())
		require.NoError(t, records.Close())
	})
	known := func(i int, tag oci.Tag) oci.Digest {
		lacked := oci.DigestOf(oci.SHA256, fmt.Append(nil, i))
		raw := fmt.Appendf(nil, `{"schemaVersion":2,"mediaType":%q,"config":{"mediaType":"application/vnd.example","digest":%q,"size":1},"layers":[]}`, oci.MediaTypeImage, lacked)
		digest := oci.DigestOf(oci.SHA256, raw)
		m, err := reg.KeepKnown(ctx, registry.Known{Name: "outside/printer", Tag: tag, Digest: digest, MediaType: oci.MediaTypeImage, Raw: raw, Origin: "partner"})
		require.NoError(t, err)
		require.Equal(t, 1, m.Missing)
		return digest
	}
	tagged, idle := known(1, "1"), known(2, "")
	there := func(d oci.Digest) bool {
		_, err := reg.Manifest(ctx, "outside/printer", d.String())
		return err == nil
	}
	pass := func(span time.Duration) {
		clk.MoveTo(clk.Now().Add(span))
		require.NoError(t, f.letGo(ctx, func() error { return nil }))
	}
	pass(29 * 24 * time.Hour)
	assert.True(t, there(idle))
	fresh := known(3, "")
	pass(2 * 24 * time.Hour)
	assert.False(t, there(idle))
	assert.True(t, there(tagged))
	assert.True(t, there(fresh))
}
