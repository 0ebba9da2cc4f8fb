package app_test

import (
	"net/netip"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go4.org/netipx"
	"pgregory.net/rapid"

	"bivium/core/analysis"
	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/paths"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
	"bivium/core/wiring"
	"bivium/demo"
	"bivium/internal/app"
	"bivium/internal/app/consequence"
	"bivium/internal/app/view"
	"bivium/internal/store"
)

// drawWiring draws an edit of the demo: most can be made, and some are refused.
func drawWiring(t *rapid.T, e *estate.Estate) wiring.Edit {
	one := func(of string, names ...string) string { return rapid.SampledFrom(names).Draw(t, of) }
	var networks, hubs []string
	for _, n := range e.Networks {
		networks = append(networks, n.Name)
	}
	for _, h := range e.Hubs {
		hubs = append(hubs, h.Name)
	}
	network, hub := one("network", networks...), one("hub", hubs...)
	prefix := netip.MustParsePrefix(one("prefix", "10.200.0.0/24", "10.40.0.0/16", "100.64.0.0/26", "0.0.0.0/0"))
	segment := one("segment", "office", "market", "turbine", "contractor")
	switch rapid.IntRange(0, 9).Draw(t, "op") {
	case 0:
		return wiring.Edit{Op: wiring.Live, Network: network, Segment: segment}
	case 1:
		return wiring.Edit{Op: wiring.Detach, Network: network, Hub: hub}
	case 2:
		return wiring.Edit{Op: wiring.Bring, Network: network, Hub: hub, Prefix: prefix, Segment: segment}
	case 3:
		return wiring.Edit{Op: wiring.SetRoute, Network: network, Prefix: prefix, Via: estate.Via(one("via", "hub", "none", "internet"))}
	case 4:
		return wiring.Edit{Op: wiring.Link, Hub: hub, Other: one("other", hubs...), Cost: rapid.IntRange(1, 60).Draw(t, "cost")}
	case 5:
		return wiring.Edit{Op: wiring.Translate, Network: network, Hub: hub, Segment: segment, Prefix: netip.MustParsePrefix("10.31.0.64/26"), Outside: netip.MustParsePrefix("100.64.0.0/26")}
	case 6:
		return wiring.Edit{Op: wiring.Filter, Network: network, Hub: hub, Accepts: []netip.Prefix{prefix}}
	case 8:
		share := rapid.SampledFrom(e.Shares).Draw(t, "share")
		return wiring.Edit{Op: wiring.Show, Name: share.Name, Segment: one("side", share.Owner.Segment, share.Guest.Segment), Prefix: netip.MustParsePrefix("10.20.0.0/24"), Outside: netip.MustParsePrefix("100.70.0.0/24")}
	case 7:
		return wiring.Edit{Op: wiring.CloseExit, Name: one("exit", "delta-out", "ridge-out")}
	}
	return wiring.Edit{Op: wiring.Attach, Network: network, Hub: hub, Cost: rapid.IntRange(0, 9).Draw(t, "cost")}
}

func text(t require.TestingT, e *estate.Estate) string {
	b, err := document.Write(e)
	require.NoError(t, err)
	return string(b)
}

// openDemo opens an app that begins with the demo, on a store of its own.
func openDemo(t *testing.T, rt require.TestingT, file string) (*app.App, *store.Store) {
	s, err := store.Open(t.Context(), file)
	require.NoError(rt, err)
	a, err := app.Open(t.Context(), app.Config{Store: s, Clock: time.Now, First: func() (*estate.Estate, error) { return document.Read(demo.Grayshoal) }})
	require.NoError(rt, err)
	return a, s
}

// TestWiringIsTriedMadeAndTakenBack makes a row of drawn edits on the demo. What
// trying says, making does; what is made is what the store holds; and undoing
// brings back what was there, to the letter.
func TestWiringIsTriedMadeAndTakenBack(t *testing.T) {
	runs := 0
	dir := t.TempDir()
	meet.Check(t, meet.Often(1, "made", "refused", "impossible", "other routes", "other shared routes", "other expectations"), func(rt *rapid.T, met meet.Met) {
		if runs++; runs%100 > 30 { // each of them opens a store of its own
			return
		}
		a, s := openDemo(t, rt, filepath.Join(dir, strconv.Itoa(runs)+".db"))
		defer s.Close() //nolint:errcheck // it holds nothing that is kept
		for range 3 {
			now := a.Now()
			before := text(rt, now.Estate)
			edits := []wiring.Edit{drawWiring(rt, now.Estate)}
			tried, err := try(t, a, now, edits...)
			done, failed := makeOf(t, a, edits...)
			if err != nil || len(tried.Refused) > 0 || tried.InUse != nil {
				require.Error(rt, failed, "%v", edits)
				require.Equal(rt, before, text(rt, a.Now().Estate), "what is refused changes nothing")
				met.If(err != nil, "impossible")
				met.If(err == nil, "refused")
				continue
			}
			require.NoError(rt, failed, "%v", edits)
			met["made"]++
			require.Equal(rt, tried.Routes, done.Routes, "%v", edits)
			require.Equal(rt, tried.Effect.Flows, done.Effect.Flows, "%v", edits)
			require.Equal(rt, tried.Effect.Expectations, done.Effect.Expectations, "%v", edits)
			own := slices.DeleteFunc(slices.Clone(done.Routes), isShared)
			require.ElementsMatch(rt, routesThatDiffer(now, a.Now()), routesOf(own), "%v", edits)
			for _, c := range done.Routes {
				if isShared(c) {
					met["other shared routes"]++
					require.Equal(rt, []bool{c.Before != "", c.After != ""}, []bool{isFound(now, &c), isFound(a.Now(), &c)}, "%v: %v", edits, c)
				}
			}
			require.Equal(rt, faresThatDiffer(now, a.Now()), faresOf(done.Effect.Expectations), "%v", edits)
			met.If(len(done.Routes) > 0, "other routes")
			met.If(len(done.Effect.Expectations) > 0, "other expectations")
			after := text(rt, a.Now().Estate)
			kept, revision, _, err := s.Get(t.Context())
			require.NoError(rt, err)
			require.Equal(rt, after, text(rt, kept))
			require.Equal(rt, done.Revision, revision)
			if after == before { // nothing to take back
				continue
			}
			_, err = a.Undo(t.Context(), revision, "test")
			require.NoError(rt, err)
			require.Equal(rt, before, text(rt, a.Now().Estate), "%v, taken back", edits)
			_, err = a.Undo(t.Context(), revision+1, "test")
			require.NoError(rt, err)
			require.Equal(rt, after, text(rt, a.Now().Estate), "%v, made again", edits)
		}
	})
}

// routesThatDiffer compares the tables of all segments at all hubs, line by line.
func routesThatDiffer(before, after *view.Snapshot) []string {
	lines := func(s *view.Snapshot) map[string]string {
		net := s.Judge.Net
		out := map[string]string{}
		for i, segment := range net.Segments {
			for k, hub := range net.Hubs {
				for _, r := range net.HubTable(i, k) {
					way := "dead route"
					switch {
					case r.Path.Kind == paths.NoPath:
					case r.Home.Network == paths.None:
						way = "exit " + net.Exits[r.Path.Exit].Name
					default:
						at := &net.Attachments[r.Path.Leave]
						way = net.Networks[at.Network].Name + " at " + net.Hubs[at.Hub]
					}
					out[segment+" "+hub+" "+r.Prefix.String()] = way
				}
			}
		}
		return out
	}
	was, is := lines(before), lines(after)
	var out []string
	for at, way := range was {
		if is[at] != way {
			out = append(out, at+": "+way+" > "+is[at])
		}
	}
	for at, way := range is {
		if _, known := was[at]; !known {
			out = append(out, at+":  > "+way)
		}
	}
	return out
}

func isShared(c consequence.RouteChange) bool {
	return strings.HasPrefix(c.Before+c.After, "shared by ")
}

// isFound reports whether a segment finds the ends of a prefix in the segment that shares it.
func isFound(s *view.Snapshot, c *consequence.RouteChange) bool {
	_, of, _ := strings.Cut(c.Before+c.After, "shared by ")
	all := netipx.RangeOfPrefix(netip.MustParsePrefix(c.Prefix))
	for _, a := range []netip.Addr{all.From(), all.To()} {
		end, how := s.Judge.Find(s.Judge.Net.Segment(c.Segment), a)
		if how != verdict.LookupShared || s.Judge.Net.Segments[end.Segment] != of {
			return false
		}
	}
	return true
}

// routesOf puts told changes into the same words.
func routesOf(changes []consequence.RouteChange) []string {
	var out []string
	for _, c := range changes {
		for _, hub := range c.Hubs {
			out = append(out, c.Segment+" "+hub+" "+c.Prefix+": "+c.Before+" > "+c.After)
		}
	}
	return out
}

// faresThatDiffer surveys both estates from the ground, and returns the expectations that
// hold in one of them alone.
func faresThatDiffer(before, after *view.Snapshot) map[string]bool {
	was := map[string]bool{}
	for _, h := range analysis.New(verdict.New(before.Estate)).Expectations.All() {
		was[h.Expectation.Name] = h.Holds
	}
	out := map[string]bool{}
	for _, h := range analysis.New(verdict.New(after.Estate)).Expectations.All() {
		if was[h.Expectation.Name] != h.Holds {
			out[h.Expectation.Name] = h.Holds
		}
	}
	return out
}

// faresOf returns those that are told to hold in one of them alone.
func faresOf(list []consequence.Expectation) map[string]bool {
	out := map[string]bool{}
	for _, x := range list {
		if (x.Before == view.Breaks) != (x.After == view.Breaks) {
			out[x.Name] = x.After != view.Breaks
		}
	}
	return out
}
