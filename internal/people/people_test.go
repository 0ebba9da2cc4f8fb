package people

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"database/sql"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/internal/store"
	"bivium/internal/vault"
)

// registerAt opens the people of a database, with a clock that a test moves.
func registerAt(t *testing.T, file string, now *time.Time) (*Register, *store.Store) {
	t.Helper()
	s, err := store.Open(t.Context(), file)
	require.NoError(t, err)
	v, err := vault.Open(file + ".key")
	require.NoError(t, err)
	r, err := Open(t.Context(), s, v, func() time.Time { return *now })
	require.NoError(t, err)
	return r, s
}

func TestSigningIn(t *testing.T) {
	now := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	r, s := registerAt(t, filepath.Join(t.TempDir(), "p.db"), &now)
	defer s.Close() //nolint:errcheck // the test ends
	ctx := t.Context()

	first, err := r.FirstLink(ctx)
	require.NoError(t, err)
	_, err = r.UseLink(ctx, first, "ada", "short", "10.0.0.1")
	require.ErrorContains(t, err, "at least 12")
	ada, err := r.UseLink(ctx, first, "ada", "a long password", "10.0.0.1")
	require.NoError(t, err)
	assert.True(t, ada.May(Administrator))
	_, err = r.UseLink(ctx, first, "eve", "a long password", "10.0.0.2")
	require.ErrorContains(t, err, "used already", "a link is good once")
	again, err := r.FirstLink(ctx)
	require.NoError(t, err)
	assert.Empty(t, again, "there is an administrator by now")

	require.NoError(t, r.Put(ctx, ada, Person{Name: "bo", Called: "Bo", Active: true, Grants: []Grant{{Engineer, []string{"office"}}}}))
	link, err := r.Link(ctx, ada, "bo")
	require.NoError(t, err)
	now = now.Add(61 * time.Minute)
	_, err = r.UseLink(ctx, link, "", "another long one", "10.0.0.3")
	require.ErrorContains(t, err, "older than an hour")
	link, err = r.Link(ctx, ada, "bo")
	require.NoError(t, err)
	bo, err := r.UseLink(ctx, link, "", "another long one", "10.0.0.3")
	require.NoError(t, err)
	assert.Equal(t, "bo", bo.Name)
	assert.True(t, bo.MayIn(Engineer, "office"))
	assert.False(t, bo.MayIn(Engineer, "turbine"))
	assert.False(t, bo.May(Operator))

	_, err = r.SignIn(ctx, "bo", "another long one", "10.0.0.4")
	require.NoError(t, err)
	for range perName - 1 {
		_, err = r.SignIn(ctx, "bo", "a wrong password", "10.0.0.5")
		require.ErrorIs(t, err, ErrRefused)
	}
	_, err = r.SignIn(ctx, "bo", "another long one", "10.0.0.6")
	require.ErrorIs(t, err, ErrTooOften, "who guesses is held up, and the right password with them")
	now = now.Add(time.Minute)
	_, err = r.SignIn(ctx, "bo", "another long one", "10.0.0.6")
	require.NoError(t, err)
	_, err = r.SignIn(ctx, "unknown", "another long one", "10.0.0.7")
	require.ErrorIs(t, err, ErrRefused)

	require.NoError(t, r.Put(ctx, ada, Person{Name: "bo", Called: "Bo", Active: false, Grants: []Grant{{Role: Engineer}}}))
	_, err = r.SignIn(ctx, "bo", "another long one", "10.0.0.8")
	require.ErrorIs(t, err, ErrRefused)
	require.ErrorContains(t, r.Put(ctx, ada, Person{Name: "ada", Active: true}), "only administrator")
}

func TestTokens(t *testing.T) {
	now := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	r, s := registerAt(t, filepath.Join(t.TempDir(), "p.db"), &now)
	defer s.Close() //nolint:errcheck // the test ends
	ctx := t.Context()
	require.NoError(t, r.Put(ctx, System("test"), Person{Name: "ada", Active: true, Grants: []Grant{{Role: Engineer}, {Role: Operator}}}))
	ada := r.Known("ada", "10.0.0.1")
	_, _, err := r.MakeToken(ctx, ada, "ci", Approver, now.AddDate(0, 1, 0))
	require.ErrorContains(t, err, "do not have the role approver")
	secret, _, err := r.MakeToken(ctx, ada, "ci", Engineer, now.AddDate(0, 1, 0))
	require.NoError(t, err)
	who, err := r.ByToken(ctx, secret, "10.0.0.2")
	require.NoError(t, err)
	assert.Equal(t, "ada", who.Name, "a token counts as its person")
	assert.True(t, who.May(Engineer))
	assert.False(t, who.May(Operator), "and has one role")
	_, _, err = r.MakeToken(ctx, who, "more", Engineer, now.AddDate(0, 1, 0))
	require.Error(t, err, "a token makes no tokens")
	who, err = r.ByToken(ctx, secret+"x", "10.0.0.2")
	require.NoError(t, err)
	assert.Nil(t, who)

	kept, err := json.Marshal(r.TokensOf("ada"))
	require.NoError(t, err)
	assert.NotContains(t, string(kept), secret)
	now = now.AddDate(0, 1, 1)
	who, err = r.ByToken(ctx, secret, "10.0.0.2")
	require.NoError(t, err)
	assert.Nil(t, who, "it is over")
}

// TestTheChainOfTheAuditLog changes, removes and swaps every entry in turn behind the
// product's back, and cuts the end off.
func TestTheChainOfTheAuditLog(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "p.db")
	now := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	r, s := registerAt(t, file, &now)
	for i := range 6 {
		require.NoError(t, r.Audit().Add(t.Context(), System("test"), "did", fmt.Sprint("thing ", i), ""))
	}
	count, head, err := r.Audit().Verify(t.Context(), "")
	require.NoError(t, err)
	require.EqualValues(t, 6, count)
	require.NoError(t, s.Close())

	verify := func(spoil, head string) error {
		copied := filepath.Join(t.TempDir(), "p.db")
		for _, end := range []string{"", ".key"} {
			text, err := os.ReadFile(file + end)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(copied+end, text, 0o600))
		}
		db, err := sql.Open("sqlite", copied)
		require.NoError(t, err)
		_, err = db.ExecContext(context.Background(), "DROP TRIGGER audit_stays; DROP TRIGGER audit_remains; "+spoil)
		require.NoError(t, err)
		require.NoError(t, db.Close())
		r, s := registerAt(t, copied, &now)
		defer s.Close() //nolint:errcheck // the test ends
		_, _, err = r.Audit().Verify(t.Context(), head)
		return err
	}
	require.NoError(t, verify("", head))
	var broken *Broken
	for i := 1; i <= 6; i++ {
		for _, column := range []string{"at", "actor", "address", "what", "about", "detail"} {
			require.ErrorAs(t, verify(fmt.Sprintf("UPDATE audit SET %s = %s || 'x' WHERE number = %d", column, column, i), ""), &broken, column)
			assert.EqualValues(t, i, broken.Number, column)
		}
		if i < 6 {
			require.ErrorAs(t, verify(fmt.Sprintf("DELETE FROM audit WHERE number = %d", i), ""), &broken)
			assert.EqualValues(t, i, broken.Number)
			require.ErrorAs(t, verify(fmt.Sprintf("DELETE FROM audit WHERE number = %d; UPDATE audit SET number = number - 1 WHERE number > %d", i, i), ""), &broken)
			require.ErrorAs(t, verify(fmt.Sprintf("UPDATE audit SET number = 99 WHERE number = %[1]d; UPDATE audit SET number = %[1]d WHERE number = %[1]d + 1; UPDATE audit SET number = %[1]d + 1 WHERE number = 99", i), ""), &broken)
			assert.EqualValues(t, i, broken.Number)
		}
		require.ErrorAs(t, verify(fmt.Sprintf("DELETE FROM audit WHERE number >= %d", i), head), &broken, "the end is cut off")
	}
}
