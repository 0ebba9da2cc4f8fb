package store_test

import (
	"database/sql"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/internal/store"
)

// TestADatabaseThatCannotBeUsedIsRefusedPlainly spoils database files in the ways in which
// disks, people and other programs do, and looks that nothing in them is changed.
func TestADatabaseThatCannotBeUsedIsRefusedPlainly(t *testing.T) {
	exec := func(t *testing.T, file string, statements ...string) {
		db, err := sql.Open("sqlite", file)
		require.NoError(t, err)
		for _, s := range statements {
			_, err := db.ExecContext(t.Context(), s)
			require.NoError(t, err, s)
		}
		require.NoError(t, db.Close())
	}
	for name, c := range map[string]struct {
		spoil func(t *testing.T, file string)
		says  string
	}{
		"a file of no bytes": {func(t *testing.T, file string) { require.NoError(t, os.Truncate(file, 0)) }, "it is empty; restore a backup"},
		"another kind of file": {func(t *testing.T, file string) {
			require.NoError(t, os.WriteFile(file, []byte("bivium: 1\nestate: mine\n"), 0o600))
		}, "not a Bivium database"},
		"a newer schema": {func(t *testing.T, file string) {
			exec(t, file, `INSERT INTO goose_db_version (version_id, is_applied) VALUES (99, 1)`)
		}, "a newer version of Bivium (schema 99"},
		"a damaged page": {func(t *testing.T, file string) {
			exec(t, file, `PRAGMA wal_checkpoint(TRUNCATE)`)
			f, err := os.OpenFile(file, os.O_RDWR, 0)
			require.NoError(t, err)
			info, err := f.Stat()
			require.NoError(t, err)
			for at := int64(3 * 4096); at < info.Size(); at += 4096 {
				_, err = f.WriteAt([]byte("\xff\xff\xff\xff\xff\xff\xff\xff\xff\xff\xff\xff"), at)
				require.NoError(t, err)
			}
			require.NoError(t, f.Close())
		}, "the database is damaged; restore a backup"},
	} {
		t.Run(name, func(t *testing.T) {
			file := filepath.Join(t.TempDir(), "a.db")
			s, err := store.Open(t.Context(), file)
			require.NoError(t, err)
			require.NoError(t, s.Put(t.Context(), grayshoal(t)))
			require.NoError(t, s.Close())
			c.spoil(t, file)
			before, err := os.ReadFile(file)
			require.NoError(t, err)
			_, err = store.Open(t.Context(), file)
			require.ErrorContains(t, err, c.says)
			assert.ErrorContains(t, err, file, "it says which file")
			after, err := os.ReadFile(file)
			require.NoError(t, err)
			assert.Equal(t, before, after)
		})
	}
}

func TestOneServerAtATime(t *testing.T) {
	file := filepath.Join(t.TempDir(), "a.db")
	s := open(t, file)
	_, err := store.Open(t.Context(), file)
	require.ErrorContains(t, err, "another server is using it")
	require.NoError(t, s.Close())
	again, err := store.Open(t.Context(), file)
	require.NoError(t, err)
	require.NoError(t, again.Close())
}

func TestNobodyElseMayReadADatabase(t *testing.T) {
	file := filepath.Join(t.TempDir(), "a.db")
	require.NoError(t, open(t, file).Close())
	require.NoError(t, os.Chmod(file, 0o644)) // as an earlier version made it
	s := open(t, file)
	require.NoError(t, s.Put(t.Context(), grayshoal(t)))
	for _, f := range []string{file, file + "-wal", file + ".lock"} {
		info, err := os.Stat(f)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), f)
	}
}

// TestAFullDiskLosesNothing fills the room that the database may take.
func TestAFullDiskLosesNothing(t *testing.T) {
	file := filepath.Join(t.TempDir(), "a.db")
	s := open(t, file)
	e := grayshoal(t)
	require.NoError(t, s.Put(t.Context(), e))
	store.Limit(t, s)
	var err error
	revision := int64(1)
	for i := 0; err == nil && i < 1000; i++ {
		r := edit(e, false, revision, "somebody")
		if i%2 == 1 {
			r = edit(e, true, revision, "somebody")
		}
		var next int64
		if next, err = s.Change(t.Context(), r); err == nil {
			revision = next
		}
	}
	require.ErrorIs(t, err, store.ErrNoRoom)
	is, err := s.Revision(t.Context())
	require.NoError(t, err)
	assert.Equal(t, revision, is, "what was acknowledged is there, and no more")
}
