package drafts_test

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/netip"
	"path/filepath"
	"reflect"
	"runtime/debug"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/core/synth"
	"bivium/internal/app"
	"bivium/internal/app/drafts"
	"bivium/internal/app/history"
	"bivium/internal/app/view"
	"bivium/internal/people"
	"bivium/internal/store"
	"bivium/internal/vault"
)

// desk opens a desk on a database of its own with an estate, and with what was written to it
// before.
func desk(b *testing.B, e *estate.Estate, before ...func(*sql.Tx)) (*app.App, *drafts.Desk, *people.Register) {
	b.Helper()
	file := filepath.Join(b.TempDir(), "l.db")
	s, err := store.Open(b.Context(), file)
	require.NoError(b, err)
	b.Cleanup(func() { require.NoError(b, s.Close()) })
	if len(before) > 0 {
		require.NoError(b, s.Put(b.Context(), e))
		db, err := sql.Open("sqlite", file)
		require.NoError(b, err)
		tx, err := db.Begin()
		require.NoError(b, err)
		for _, write := range before {
			write(tx)
		}
		require.NoError(b, tx.Commit())
		require.NoError(b, db.Close())
	}
	v, err := vault.Open(file + ".key")
	require.NoError(b, err)
	a, err := app.Open(b.Context(), app.Config{Store: s, Clock: time.Now, Vault: v, Log: slog.New(slog.DiscardHandler), First: func() (*estate.Estate, error) { return e, nil }})
	require.NoError(b, err)
	b.Cleanup(a.Close)
	register, err := people.Open(b.Context(), s, v, time.Now)
	require.NoError(b, err)
	d, err := drafts.Open(b.Context(), a, register)
	require.NoError(b, err)
	return a, d, register
}

// putPolicy returns an edit that changes the first rule of a policy of an estate.
func putPolicy(b *testing.B, e *estate.Estate, i int) *edit.Edit {
	b.Helper()
	for i %= len(e.Policies); e.Policies[i].Guardrail(); {
		i = (i + 1) % len(e.Policies)
	}
	p := e.Policies[i]
	p.Rules = append([]estate.Rule(nil), p.Rules...)
	p.Rules[0].Pool = ""
	if p.Rules[0].Action == estate.Allow {
		p.Rules[0].Action = estate.Deny
	} else {
		p.Rules[0].Action = estate.Allow
	}
	ref := estate.Ref{Kind: estate.KindPolicy, Name: p.Name}
	next := *e
	next.Policies = append([]estate.Policy(nil), e.Policies...)
	next.Policies[i] = p
	thing, _ := edit.In(&next)(ref)
	return &edit.Edit{Operations: []edit.Operation{edit.PutOf(e, ref, document.Body(thing))}}
}

// BenchmarkDraft works with a draft of 200 steps on L: a further step, all that it changes,
// and the same on the estate after another draft was applied.
func BenchmarkDraft(b *testing.B) {
	defer debug.SetGCPercent(debug.SetGCPercent(200)) // as the server
	e := synth.New("l", synth.Sizes["L"], 1)
	a, d, _ := desk(b, e)
	by := people.System("bench")
	ctx := b.Context()
	draft, err := d.Begin(ctx, by, "big", "", "")
	require.NoError(b, err)
	add := func(id int64, i int) {
		s, err := d.Snapshot(ctx, id)
		require.NoError(b, err)
		_, err = d.Add(ctx, by, id, &app.Edit{Edit: *putPolicy(b, s.Estate, i), Seen: s.Revision})
		require.NoError(b, err)
	}
	for i := range 200 {
		add(draft.ID, 20*i)
	}
	b.Run("step", func(b *testing.B) {
		for i := 0; b.Loop(); i++ {
			add(draft.ID, 4100+7*i)
		}
	})
	b.Run("first-screen", func(b *testing.B) {
		for b.Loop() {
			again, err := drafts.Open(ctx, a, openPeople(b, a))
			require.NoError(b, err)
			s, err := again.Snapshot(ctx, draft.ID)
			require.NoError(b, err)
			_ = s.Board(nil)
		}
	})
	b.Run("review", func(b *testing.B) {
		for b.Loop() {
			b.StopTimer()
			require.NoError(b, d.Turn(ctx, by, draft.ID, true))
			_, err := d.Snapshot(ctx, draft.ID)
			require.NoError(b, err)
			b.StartTimer()
			_, err = d.Review(ctx, by, draft.ID)
			require.NoError(b, err)
		}
	})
	b.Run("rebase", func(b *testing.B) {
		for i := 0; b.Loop(); i++ {
			b.StopTimer()
			other, err := d.Begin(ctx, by, "", "", "")
			require.NoError(b, err)
			add(other.ID, 11000+13*i)
			_, err = d.Apply(ctx, by, other.ID, 0, drafts.How{})
			require.NoError(b, err)
			b.StartTimer()
			_, err = d.Snapshot(ctx, draft.ID)
			require.NoError(b, err)
		}
	})
}

func openPeople(b *testing.B, a *app.App) *people.Register {
	b.Helper()
	register, err := people.Open(b.Context(), a.Store, a.Vault, time.Now)
	require.NoError(b, err)
	return register
}

// BenchmarkBlame asks since when a flow has its outcome, over 2,000 revisions of M by people.
func BenchmarkBlame(b *testing.B) {
	e := synth.New("m", synth.Sizes["M"], 1)
	a, d, register := desk(b, e)
	ctx := b.Context()
	for i := range 2000 {
		now := a.Now()
		x := putPolicy(b, now.Estate, i%(len(e.Policies)/2))
		if i%4 == 0 { // some say something of themselves alone
			p := now.Estate.Policies[i%len(e.Policies)]
			p.Description = fmt.Sprint("revision ", i)
			body, err := json.Marshal(p)
			require.NoError(b, err)
			x = &edit.Edit{Operations: []edit.Operation{edit.PutOf(now.Estate, estate.Ref{Kind: estate.KindPolicy, Name: p.Name}, body)}}
		}
		_, err := a.Make(ctx, &app.Edit{Edit: *x, Seen: now.Revision}, "bench")
		require.NoError(b, err)
	}
	h := history.New(a, register, d)
	w := e.Workloads
	q := view.Question{From: w[0].Name, To: w[len(w)/2].Name, On: "tcp/443"}
	for b.Loop() {
		_, err := h.Blame(ctx, q, 0, "")
		require.NoError(b, err)
	}
}

// BenchmarkBlameRouters asks the same over 100,000 revisions of M by routers: of 40 prefixes of
// each of its attachments, one after another is withdrawn and comes back.
func BenchmarkBlameRouters(b *testing.B) {
	e := synth.New("m", synth.Sizes["M"], 1)
	const revisions, prefixes = 100_000, 40
	type state struct{ place, turn int }
	bodies := map[state][]byte{}
	body := func(place, turn int) []byte {
		turn %= prefixes + 1
		if known := bodies[state{place, turn}]; known != nil {
			return known
		}
		a := e.Attachments[place]
		a.Learned = nil
		for p := range prefixes {
			if p != turn {
				a.Learned = append(a.Learned, estate.Learned{Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{198, 18, byte(p)}), 24), Segment: e.Segments[0].Name, Status: "refused"})
			}
		}
		bodies[state{place, turn}] = document.Body(reflect.ValueOf(a))
		return bodies[state{place, turn}]
	}
	a, d, register := desk(b, e, func(tx *sql.Tx) {
		for i := range revisions {
			place, turn := i%len(e.Attachments), i/len(e.Attachments)
			_, err := tx.Exec(`INSERT INTO revision (number, at, actor, what) VALUES (?, '2026-01-01T00:00:00Z', 'routers', 'announcements')`, i+2)
			require.NoError(b, err)
			_, err = tx.Exec(`INSERT INTO step (revision, object, list, name, was, before, after)
				SELECT ?, id, list, name, '', ?, ? FROM object WHERE list = 'attachments' AND position = ?`, i+2, body(place, turn), body(place, turn+1), place)
			require.NoError(b, err)
		}
		_, err := tx.Exec(`UPDATE estate SET revision = ?`, revisions+1)
		require.NoError(b, err)
		for i := range e.Attachments { // as they are after all that
			_, err := tx.Exec(`UPDATE object SET body = ? WHERE list = 'attachments' AND position = ?`, body(i, revisions/len(e.Attachments)), i)
			require.NoError(b, err)
		}
	})
	h := history.New(a, register, d)
	w := e.Workloads
	q := view.Question{From: w[0].Name, To: w[len(w)/2].Name, On: "tcp/443"}
	for b.Loop() {
		out, err := h.Blame(b.Context(), q, 0, "")
		require.NoError(b, err)
		require.EqualValues(b, 1, out.Looked)
	}
}
