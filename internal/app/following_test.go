package app_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/internal/app"
	"bivium/internal/app/lanes"
	"bivium/internal/app/view"
)

// shown puts what the screens show of a snapshot into words: the board with its cells, the
// lanes, faults and findings, how expectations fare, and the numbers at the foot.
func shown(t require.TestingT, s *view.Snapshot) map[string]string {
	out := map[string]string{}
	put := func(what string, x any) {
		b, err := json.Marshal(x)
		require.NoError(t, err)
		out[what] = string(b)
	}
	board := s.Board(nil)
	put("board", board.Nodes)
	for i := range board.Nodes {
		for k := range board.Nodes {
			c, err := s.Cell(board.Nodes[i].ID, board.Nodes[k].ID)
			if err != nil { // nobody is there
				continue
			}
			slices.SortFunc(c.Lines, func(a, b view.Line) int { return len(fmt.Sprint(a.Services)) - len(fmt.Sprint(b.Services)) })
			for _, line := range c.Lines {
				for _, part := range line.Parts {
					put(fmt.Sprint(c.Row, c.Col, line.Services, part.Verdict.Outcome, part.Verdict.By, part.Verdict.Reason, part.Verdict.Pools), []any{part.Pairs, part.From, part.To})
				}
			}
		}
	}
	all := map[string]any{"lanes": lanes.Of(s), "summary": s.Summary(), "faults": s.Faults}
	for _, segment := range s.Estate.Segments {
		for _, hub := range s.Estate.Hubs {
			routes, err := lanes.HubRoutes(s, segment.Name, hub.Name, "")
			require.NoError(t, err)
			for _, r := range routes.Rows {
				all[fmt.Sprint("route of ", segment.Name, " at ", hub.Name, ": ", r.Origin, " ", r.Of, " ", r.Prefix)] = r
			}
		}
	}
	for _, n := range s.Estate.Networks {
		routes, err := lanes.NetworkRoutes(s, n.Name, "")
		require.NoError(t, err)
		for _, r := range routes.Rows {
			all[fmt.Sprint("route of ", n.Name, ": ", r.Origin, " ", r.Of, " ", r.Prefix)] = r
		}
	}
	for what, x := range all {
		b, err := json.Marshal(x)
		require.NoError(t, err)
		var told any
		require.NoError(t, json.Unmarshal(b, &told))
		put(what, unordered(told))
	}
	var codes []string
	for _, f := range s.Analysis.Findings.All(func() {}) {
		codes = append(codes, string(f.Code))
	}
	slices.Sort(codes)
	put("findings", slices.Compact(codes))
	for _, h := range s.Analysis.Expectations.All() {
		put("expects "+h.Expectation.Name, []any{h.Holds, h.ByRouting, h.Vacuous})
	}
	return out
}

// unordered puts all lists of something into an order of their own, and leaves out places in
// lists, and revisions: documents are written in the order of names, and nothing depends on
// it.
func unordered(x any) any {
	switch x := x.(type) {
	case map[string]any:
		delete(x, "path")
		delete(x, "revision")
		for key := range x {
			x[key] = unordered(x[key])
		}
	case []any:
		for i := range x {
			x[i] = unordered(x[i])
		}
		slices.SortFunc(x, func(a, b any) int { return strings.Compare(fmt.Sprint(a), fmt.Sprint(b)) })
	}
	return x
}

// TestAnImportIsShownAsAFreshStart imports drawn edits of the demo, one after the other, by
// which networks, segments, hubs, exits, pools and rulebooks come and go and rules are
// others: everything shown is as if the server had begun with the document, and, where it
// is taken back, as it was.
func TestAnImportIsShownAsAFreshStart(t *testing.T) {
	runs := 0
	dir := t.TempDir()
	meet.Check(t, meet.Wants{"an import": 60, "an import that is taken back": 10, "something comes or goes": 30, "flows that change": 10}, func(rt *rapid.T, met meet.Met) {
		if runs++; rapid.IntRange(0, 7).Draw(rt, "run") > 0 { // each of them opens a store of its own
			return
		}
		a, s := openDemo(t, rt, filepath.Join(dir, strconv.Itoa(runs)+".db"))
		defer s.Close() //nolint:errcheck // it holds nothing that is kept
		for range 4 {
			now := a.Now()
			what := rapid.SampledFrom(slices.Concat(draw.Named(), draw.Named(), draw.Edits())).Draw(rt, "edit")
			next := draw.EditOf(rt, now.Estate, what)
			written, err := document.Write(next)
			require.NoError(rt, err)
			tried, err := app.TryImport(now, t.Context(), written)
			done, failed := a.Import(t.Context(), written, now.Revision, "test")
			if err != nil { // what was drawn is no document
				require.ErrorContains(rt, failed, err.Error())
				require.True(rt, a.Now() == now, "what is refused changes nothing")
				continue
			}
			require.NoError(rt, failed)
			require.Equal(rt, tried.Effect.Flows, done.Effect.Flows)
			require.Equal(rt, tried.Counts, done.Counts)
			fresh, err := document.Read(written)
			require.NoError(rt, err)
			fresh = estate.AsOf(fresh, a.Now().Estate.Day) // what has run out says nothing in either
			want, got := shown(rt, view.NewSnapshot(fresh, 1)), shown(rt, a.Now())
			for _, key := range slices.Sorted(maps.Keys(want)) {
				require.Equal(rt, want[key], got[key], "%s: %s", what, key)
			}
			require.Len(rt, got, len(want))
			if rapid.IntRange(0, 2).Draw(rt, "taken back") == 0 && text(rt, next) != text(rt, now.Estate) {
				_, err = a.Undo(t.Context(), a.Now().Revision, "test")
				require.NoError(rt, err)
				back := shown(rt, a.Now())
				canonical, err := document.Read([]byte(text(rt, now.Estate))) // lists come back in the order of names
				require.NoError(rt, err)
				for key, was := range shown(rt, view.NewSnapshot(estate.AsOf(canonical, now.Estate.Day), 1)) {
					require.Equal(rt, was, back[key], "%s, taken back: %s", what, key)
				}
				met["an import that is taken back"]++
			}
			met["an import"]++
			met.If(slices.Contains(draw.Named(), what), "something comes or goes")
			met.If(len(done.Effect.Flows) > 0, "flows that change")
		}
	})
}
