package record

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/oci"
	"warthesis/internal/record/removals"
	"warthesis/internal/record/rulelists"
	"warthesis/internal/record/seals"
)

func removeTag(t *testing.T, s *Store, r Repository, tag oci.Tag) (id int64) {
	require.NoError(t, s.Update(ctx, "test", func(tx *Tx) (err error) {
		if id, err = tx.BeginRemoval(RemovalOfTag, r, string(tag), Actor{Account: 7}); err != nil {
			return err
		}
		return tx.DeleteTag(r, tag, id, Actor{Account: 7})
	}))
	return id
}

func undo(s *Store, id int64) error {
	return s.Update(ctx, "test", func(tx *Tx) error {
		_, err := tx.Undo(id, nil, "", Actor{Account: 7})
		return err
	})
}

// The end of a window counts served time, and what is gone by then brings nothing back.
func TestUndoEndsWithItsWindowAndWithItsContent(t *testing.T) {
	s, clk := fresh(t)
	r := keep(t, s, "a", "1.0", digestOf(1))
	keep(t, s, "a", "2.0", digestOf(2))
	late, early := removeTag(t, s, r, "1.0"), removeTag(t, s, r, "2.0")
	clk.MoveTo(clk.Now().Add(DefaultRestoreWindow - time.Second))
	require.NoError(t, undo(s, early))
	clk.MoveTo(clk.Now().Add(time.Second))
	assert.ErrorIs(t, undo(s, late), ErrWindow)
	assert.ErrorIs(t, undo(s, 999), ErrNotFound)

	gone := removeTag(t, s, r, "2.0")
	require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error {
		return errors.Join(tx.db.Exec("INSERT INTO contents (digest) VALUES (?)", digestOf(9)).Error, tx.db.Exec("INSERT INTO media_types (name) VALUES ('x')").Error,
			tx.db.Exec(`INSERT INTO edges (manifest_id, position, repository_id, content_id, relation, media_type_id, size)
				SELECT m.id, 0, m.repository_id, c.id, 2, t.id, 1 FROM manifests AS m, contents AS c, media_types AS t WHERE m.digest = ? AND c.digest = ? AND t.name = 'x'`, digestOf(2), digestOf(9)).Error)
	}))
	var lost *removals.GoneError
	require.ErrorAs(t, undo(s, gone), &lost)
	assert.Equal(t, removals.GoneError{Digest: digestOf(9), Of: digestOf(2)}, *lost)
	_, err := s.TagTarget(ctx, r.ID, "2.0")
	assert.ErrorIs(t, err, ErrNotFound, "all or nothing")
}

// What was judged of a place before holds only while nothing there changed: what moved
// since is judged in the change, and rules that came since are judged anew.
func TestAPlaceGoesOnlyByWhatIsTrueThen(t *testing.T) {
	s, clk := fresh(t)
	r := keep(t, s, "n/a", "1.0.0", digestOf(1))
	rules := func(words string) {
		require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error {
			return tx.RuleLists().Set(rulelists.List{Key: rulelists.Key{Kind: "immutability", NamespaceID: r.NamespaceID}, Words: words, Reason: "x"}, nil)
		}))
	}
	judge := func() seals.Leave {
		j, err := s.Judge(ctx, Repository{NamespaceID: r.NamespaceID, Name: "n"})
		require.NoError(t, err)
		return seals.Leave{Judged: j}
	}
	remove := func(l seals.Leave) error {
		return s.Update(ctx, "test", func(tx *Tx) error {
			_, err := tx.RemoveNamespace(Namespace{ID: r.NamespaceID, Name: "n"}, Actor{}, l)
			if err != nil {
				return err
			}
			return assert.AnError
		})
	}
	var sealed *seals.Sealed
	rules("- seal: \"*:2.*\"\n- seal: \"*:1.*\"\n  after: 1h\n")
	leave := judge()
	assert.ErrorIs(t, remove(leave), assert.AnError, "nothing is sealed yet")
	clk.MoveTo(clk.Now().Add(20 * time.Second))
	keep(t, s, "n/a", "3.0.0", digestOf(3))
	assert.ErrorIs(t, remove(leave), assert.AnError, "what came since is not sealed")
	keep(t, s, "n/a", "2.0.0", digestOf(2))
	assert.ErrorAs(t, remove(leave), &sealed, "what came since is")
	assert.Equal(t, oci.Tag("2.0.0"), sealed.Tag.Name)
	require.ErrorAs(t, remove(judge()), &sealed)

	rules("- free: x\n")
	assert.ErrorIs(t, remove(leave), seals.ErrJudgeAgain, "other rules")
	leave = judge()
	require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error { return tx.SealTag(r, "1.0.0", "by hand", Actor{Account: 7}) }))
	assert.ErrorAs(t, remove(leave), &sealed, "a hand was faster")
	require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error { return tx.SealTag(r, "1.0.0", "", Actor{Account: 7}) }))
	keep(t, s, "n/b", "1.0.0", digestOf(4))
	assert.ErrorIs(t, remove(leave), seals.ErrJudgeAgain, "another repository")
	leave = judge()
	clk.MoveTo(clk.Now().Add(time.Minute))
	assert.ErrorIs(t, remove(leave), seals.ErrJudgeAgain, "long ago")
}
