package store_test

import (
	"database/sql"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/inventory"
	"bivium/internal/store"
)

// TestChangesComeBackAsTheyWereMade makes a row of changes: things that come, go,
// change and move, with and without names. What comes back is what was put, in
// its order, and the history of each thing leads from what it was to what it is.
func TestChangesComeBackAsTheyWereMade(t *testing.T) {
	first := grayshoal(t)
	rapid.Check(t, func(t *rapid.T) {
		file := filepath.Join(tempDir(t), "a.db")
		s, err := store.Open(t.Context(), file)
		require.NoError(t, err)
		defer s.Close() //nolint:errcheck // the test ends
		require.NoError(t, s.Put(t.Context(), first))
		e, revision := first, int64(1)
		last := map[string]string{} // by workload: its body
		for step := range 4 {
			next := *e
			next.Workloads = slices.Clone(e.Workloads)
			next.Attachments = slices.Clone(e.Attachments)
			drop := rapid.IntRange(0, len(next.Workloads)-1).Draw(t, "gone")
			gone := next.Workloads[drop].Name
			next.Workloads = slices.Delete(next.Workloads, drop, drop+1)
			next.Workloads = slices.Insert(next.Workloads, rapid.IntRange(0, len(next.Workloads)).Draw(t, "at"), estate.Workload{Name: fmt.Sprint("new-", step), Network: "common", Addresses: e.Workloads[0].Addresses})
			next.Attachments = slices.Delete(next.Attachments, 0, rapid.IntRange(0, 3).Draw(t, "detached"))
			next.Attachments[rapid.IntRange(0, len(next.Attachments)-1).Draw(t, "dearer")].Cost = 77
			known := []inventory.Known{{Account: "a", Kind: inventory.WorkloadKind, ID: fmt.Sprint(step), Name: "x", Tags: map[string]string{"k": "v"}}}
			revision, err = s.Change(t.Context(), revisionOf(e, &next, revision, known))
			require.NoError(t, err)
			_, err = s.Change(t.Context(), revisionOf(e, &next, revision-1, nil))
			var stale *store.StaleError
			require.ErrorAs(t, err, &stale)

			made, err := s.MadeBy(t.Context(), revision)
			require.NoError(t, err)
			require.Equal(t, [2]string{"tester", store.Edit}, [2]string{made.Actor, made.What})
			require.Equal(t, bodies(document.Split(&next)), replaced(bodies(document.Split(e)), made), "what it says is all that it changed")

			got, at, _, err := s.Get(t.Context())
			require.NoError(t, err)
			require.Equal(t, revision, at)
			require.Equal(t, document.Split(&next), document.Split(got), "in its order, too")
			back, err := s.Inventory(t.Context())
			require.NoError(t, err)
			require.Equal(t, known, back)
			history, err := s.History(t.Context(), "workloads", gone, 10)
			require.NoError(t, err)
			require.Empty(t, history[0].After)
			if was, made := last[gone]; made {
				require.Equal(t, was, history[0].Before)
			}
			for _, o := range document.Split(&next) {
				if o.List == "workloads" {
					last[o.Key] = string(o.Body)
				}
			}
			e = got
		}
	})
}

// revisionOf returns the revision that leads from one estate to another.
func revisionOf(before, after *estate.Estate, based int64, known []inventory.Known) *store.Revision {
	return &store.Revision{
		What: store.Edit, Name: after.Name, Description: after.Description, Changes: document.Changes(before, after, nil),
		Based: based, Actor: "tester", At: time.Now(), Known: known,
	}
}

// bodies returns the bodies of objects, by list and key.
func bodies(objects []document.Object) map[[2]string]string {
	out := map[[2]string]string{}
	for _, o := range objects {
		out[[2]string{o.List, o.Key}] = string(o.Body)
	}
	return out
}

// replaced returns bodies after what made a revision.
func replaced(was map[[2]string]string, made *store.Made) map[[2]string]string {
	for _, o := range made.Before {
		delete(was, [2]string{o.List, o.Key})
	}
	maps.Copy(was, bodies(made.After))
	return was
}

var dirs int

// tempDir returns a directory of its own for each drawn case.
func tempDir(t *rapid.T) string {
	dirs++
	return filepath.Join(base, fmt.Sprint(dirs))
}

// TestAnOldDatabaseGoesOn opens one as the first version left it: positions were
// those among all things, and are those within a list now.
func TestAnOldDatabaseGoesOn(t *testing.T) {
	file := filepath.Join(t.TempDir(), "a.db")
	s := open(t, file)
	e := grayshoal(t)
	require.NoError(t, s.Put(t.Context(), e))
	require.NoError(t, s.Close())
	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	for _, statement := range []string{
		`ALTER TABLE object RENAME TO newer`,
		`CREATE TABLE object (estate INTEGER NOT NULL REFERENCES estate (id) ON DELETE CASCADE, list TEXT NOT NULL, key TEXT NOT NULL, position INTEGER NOT NULL, body BLOB NOT NULL,
			PRIMARY KEY (estate, list, key)) STRICT, WITHOUT ROWID`,
		`INSERT INTO object SELECT 1, list, CASE WHEN list IN ('links', 'attachments', 'peerings') THEN printf('%06d', position) ELSE name END,
			position + (SELECT count(*) FROM newer AS o WHERE o.list < newer.list), body FROM newer`,
		`INSERT INTO object SELECT 1, list, '000999', 999999, body FROM newer WHERE name = 'kelp-bank-fjord'`,
		`DROP TABLE newer`,
		`DROP TABLE audit_sent`, `DROP TABLE change_window`, `DROP TABLE delivery`, `DROP TABLE channel`, `DROP TABLE notice`,
		`DROP TABLE round`, `DROP TABLE plan_write`, `DROP TABLE plan`, `DROP TABLE in_force`,
		`DROP TABLE later_review`, `DROP TABLE comment`, `DROP TABLE approval`, `DROP TABLE draft_effect`, `DROP TABLE draft_step`, `DROP TABLE draft`,
		`DROP TABLE audit`, `DROP TABLE secret`, `DROP TABLE session`, `DROP TABLE token`, `DROP TABLE link`, `DROP TABLE team`, `DROP TABLE person`,
		`DROP TABLE aside`, `DROP TABLE known`, `DROP TABLE page`, `DROP TABLE reading`, `DROP TABLE source`, `DROP TABLE step`, `DROP TABLE revision`,
		`CREATE TABLE edit (revision INTEGER PRIMARY KEY, at TEXT NOT NULL, actor TEXT NOT NULL, list TEXT NOT NULL, key TEXT NOT NULL, before BLOB NOT NULL, after BLOB NOT NULL) STRICT`,
		`CREATE TRIGGER edit_stays BEFORE UPDATE ON edit BEGIN SELECT RAISE(ABORT, 'the history of edits cannot be changed'); END`,
		`CREATE TRIGGER edit_remains BEFORE DELETE ON edit BEGIN SELECT RAISE(ABORT, 'the history of edits cannot be changed'); END`,
		`INSERT INTO edit VALUES (1, '2026-11-01T10:00:00Z', 'somebody', 'policies', 'crews-web', x'7b7d', x'7b7d')`,
		`DELETE FROM goose_db_version WHERE version_id >= 2`,
	} {
		_, err := db.ExecContext(t.Context(), statement)
		require.NoError(t, err, statement)
	}
	require.NoError(t, db.Close())

	s = open(t, file)
	got, _, _, err := s.Get(t.Context())
	require.NoError(t, err)
	twice := got.Attachments[len(got.Attachments)-1]
	assert.Equal(t, "kelp-bank-fjord-2", twice.Name, "what was attached twice has two names")
	next := *got
	next.Attachments = next.Attachments[2:]
	_, err = s.Change(t.Context(), revisionOf(got, &next, 1, nil))
	require.NoError(t, err)
	got, _, _, err = s.Get(t.Context())
	require.NoError(t, err)
	assert.Equal(t, document.Split(&next), document.Split(got))
	history, err := s.History(t.Context(), "policies", "crews-web", 5)
	require.NoError(t, err)
	require.Len(t, history, 1, "what was known of edits is kept")
	assert.Equal(t, "somebody", history[0].Actor)
}

// TestTheMappingOfTagsBecomesPartOfTheEstate opens a database in which it stood beside the estate.
func TestTheMappingOfTagsBecomesPartOfTheEstate(t *testing.T) {
	file := filepath.Join(t.TempDir(), "a.db")
	s := open(t, file)
	require.NoError(t, s.Put(t.Context(), grayshoal(t)))
	require.NoError(t, s.Close())
	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	for _, statement := range []string{
		`CREATE TABLE mapping (position INTEGER PRIMARY KEY, body BLOB NOT NULL) STRICT`,
		`INSERT INTO mapping VALUES (1, CAST('{"key":"app","label":"app"}' AS BLOB)), (0, CAST('{"key":"env|stage","value":"live","label":"env","to":"prod"}' AS BLOB))`,
		`DELETE FROM goose_db_version WHERE version_id >= 14`,
	} {
		_, err := db.ExecContext(t.Context(), statement)
		require.NoError(t, err, statement)
	}
	require.NoError(t, db.Close())
	got, _, aside, err := open(t, file).Get(t.Context())
	require.NoError(t, err)
	require.Empty(t, aside)
	assert.Equal(t, []estate.Mapping{{Name: "tags", Rules: []estate.MappingRule{{Key: "env|stage", Value: "live", Label: "env", To: "prod"}, {Key: "app", Label: "app"}}}}, got.Mappings)
}

func TestTheHistoryOfStepsCannotBeChanged(t *testing.T) {
	file := filepath.Join(t.TempDir(), "a.db")
	s := open(t, file)
	e := grayshoal(t)
	require.NoError(t, s.Put(t.Context(), e))
	next := *e
	next.Workloads = next.Workloads[1:]
	_, err := s.Change(t.Context(), revisionOf(e, &next, 1, nil))
	require.NoError(t, err)
	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	defer db.Close() //nolint:errcheck // the test ends
	for _, statement := range []string{`UPDATE step SET after = NULL`, `DELETE FROM step`, `UPDATE revision SET actor = 'nobody'`, `DELETE FROM revision`} {
		_, err := db.ExecContext(t.Context(), statement)
		assert.ErrorContains(t, err, "history", statement)
	}
}

// TestAThingKeepsItsHistoryUnderAnotherName renames two groups to each other's names, and
// takes that back.
func TestAThingKeepsItsHistoryUnderAnotherName(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "a.db"))
	e := grayshoal(t)
	require.NoError(t, s.Put(t.Context(), e))
	next := *e
	next.Groups = slices.Clone(e.Groups)
	a, b := next.Groups[0].Name, next.Groups[1].Name
	next.Groups[0].Name, next.Groups[1].Name = b, a
	group := func(name string) estate.Ref { return estate.Ref{Kind: estate.KindGroup, Name: name} }
	r := revisionOf(e, &next, 1, nil)
	r.Changes = document.Changes(e, &next, map[estate.Ref]string{group(a): b, group(b): a})
	_, err := s.Change(t.Context(), r)
	require.NoError(t, err)
	got, _, _, err := s.Get(t.Context())
	require.NoError(t, err)
	assert.Equal(t, document.Split(&next), document.Split(got))
	before, former, err := s.Before(t.Context(), 2)
	require.NoError(t, err)
	assert.Equal(t, document.Split(e), document.Split(before))
	assert.Equal(t, map[estate.Ref]string{group(a): b, group(b): a}, former)

	last := next
	last.Groups = slices.Clone(next.Groups)
	last.Groups[0].Description = "changed later"
	_, err = s.Change(t.Context(), revisionOf(&next, &last, 2, nil))
	require.NoError(t, err)
	history, err := s.History(t.Context(), "groups", b, 5)
	require.NoError(t, err)
	require.Len(t, history, 2, "its first step was the renaming")
	assert.Contains(t, history[1].Before, a)
	made, err := s.MadeBy(t.Context(), 2)
	require.NoError(t, err)
	assert.Len(t, made.Before, 2)
}
