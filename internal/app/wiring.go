package app

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"bivium/core/difference"
	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/parallel"
	"bivium/core/paths"
	"bivium/core/recompile"
	"bivium/core/wiring"
	"bivium/internal/app/view"
	"bivium/internal/store"
)

// Rewired is what edits of the wiring would do, or did.
type Rewired struct {
	Revision int64          `json:"revision"`
	Refused  []view.Refusal `json:"refused"` // faults that they would bring; nothing else is told then
	Effect   *Effect        `json:"effect"`
	Routes   []RouteChange  `json:"routes"`
	More     int            `json:"more"` // changes of routes that are not shown
}

// RouteChange is a prefix of a segment that is reached otherwise than before, at
// some hubs.
type RouteChange struct {
	Segment string   `json:"segment"`
	Prefix  string   `json:"prefix"`
	Before  string   `json:"before"` // "" where there was no route
	After   string   `json:"after"`  // "" where there is none any more
	Hubs    []string `json:"hubs"`
}

// maxRoutes is how many changes of routes are shown.
const maxRoutes = 200

// TryWiring returns what some edits of the wiring would do.
func TryWiring(s *view.Snapshot, edits []wiring.Edit) (*Rewired, error) {
	next, err := rewire(s, edits)
	if err != nil {
		return nil, err
	}
	// Edits that bring a fault are rare: what they would do is worked out meanwhile.
	segments := segmentsOfEdits(s.Estate, next, edits)
	var wired []estate.Fault
	var unfit []*document.Unreadable
	var checked, routed parallel.Group
	checked.Go(func() {
		wired = checkWired(next, segments)
		unfit = document.Admit(document.Changes(s.Estate, next), next)
	})
	j, moved := recompile.Revise(s.Judge, next)
	out := &Rewired{Revision: s.Revision, Refused: []view.Refusal{}}
	routed.Go(func() {
		out.Routes, out.More = routeChanges(s.Judge.Net, j.Net, segments, movedNetworks(s.Judge.Net, j.Net, &moved))
	})
	a, d := s.Analysis.Follow(j, &moved)
	checked.Wait()
	if len(unfit) > 0 {
		routed.Wait()
		return nil, problemsOf(unfit)
	}
	if refused := refusals(s, append(wired, findings.ShareFaultsAfter(a.Matrix)...)); len(refused) > 0 {
		r := view.Remedies{E: next, Net: j.Net}
		for i := range refused {
			refused[i].Remedies = r.RemediesFor(edits, &refused[i])
		}
		routed.Wait()
		return &Rewired{Revision: s.Revision, Refused: refused, Routes: []RouteChange{}}, nil
	}
	s.Plans.Keep(keyOfWiring(edits), &view.Plan{Next: next, Analysis: a, Changed: d})
	after := &view.Snapshot{
		Estate: next, Revision: s.Revision, Judge: a.Judge, Analysis: a, Matrix: a.Matrix, Known: s.Known, Mapping: s.Mapping,
		Index: s.Index, Tree: &view.Tree{}, Members: &view.Members{}, Later: &view.Later{}, Plans: &view.Plans{},
	}
	out.Effect = effectOnFlows(s, after, &d, maxFlows)
	routed.Wait()
	return out, nil
}

// keyOfWiring returns the key of the plan of some edits.
func keyOfWiring(edits []wiring.Edit) *view.PlanKey { return view.KeyOfPlan("wiring", mustJSON(edits)) }

// checkWired returns the faults that edits of the wiring may bring, of networks in some
// segments alone or, for nil, of anything.
func checkWired(next *estate.Estate, segments map[string]bool) []estate.Fault {
	if segments == nil {
		return estate.CheckWiring(next) // a segment may have gone of which rules speak
	}
	return estate.CheckPlaces(next, segments)
}

// movedNetworks returns the networks whose ways a revision of a judge may have changed, by
// name; nil for all.
func movedNetworks(old, next *paths.Net, r *recompile.Revision) map[string]bool {
	if r.Whole || r.Bridge != nil || r.Ways || r.Links {
		return nil
	}
	out := map[string]bool{}
	for _, net := range []*paths.Net{old, next} {
		for _, n := range r.Networks {
			out[net.Networks[n].Name] = true
			for _, p := range net.Networks[n].Peers {
				out[net.Networks[p.Network].Name] = true
			}
		}
	}
	return out
}

// rewire returns the estate after some edits.
func rewire(s *view.Snapshot, edits []wiring.Edit) (*estate.Estate, error) {
	if len(edits) == 0 {
		return nil, &view.Problem{At: "edits", Message: "there are no edits", Fix: "send at least one edit"}
	}
	next, err := wiring.Apply(s.Estate, edits)
	var wrong *wiring.Error
	if errors.As(err, &wrong) {
		return nil, view.Problems{{At: fmt.Sprintf("edits[%d].%s", wrong.At, wrong.Key), Message: wrong.Message, Fix: wrong.Fix}}
	}
	return next, err
}

// refusals returns those of some faults that an edit brings.
func refusals(s *view.Snapshot, faults []estate.Fault) []view.Refusal {
	had := map[string]bool{}
	for i := range s.Faults {
		for _, x := range clashesOf(&s.Faults[i]) {
			had[x] = true
		}
	}
	var out []view.Refusal
	for i := range faults {
		f := faults[i]
		if f.Clash != nil && had[moreThan(f.Clash)] || !slices.ContainsFunc(clashesOf(&f), func(x string) bool { return !had[x] }) {
			continue
		}
		r := view.Refusal{Code: string(f.Code), Message: f.Message, Fix: f.Fix, Refs: []view.Thing{}, Prefixes: prefixesOf(&f), Remedies: []view.Remedy{}, Fault: f}
		for _, x := range f.Refs {
			r.Refs = append(r.Refs, view.Thing{Kind: string(x.Kind), Name: x.Name})
		}
		out = append(out, r)
	}
	return out
}

// clashesOf returns what tells a fault from others, whatever else is changed. A forbidden
// share is told with the first address that shows it, which may be another after an edit;
// overlaps are told one by one, in any order.
func clashesOf(f *estate.Fault) []string {
	switch {
	case f.Code == estate.ForbiddenShare:
		return []string{fmt.Sprint(f.Code, f.Refs, f.Path[strings.LastIndex(f.Path, ".")+1:])}
	case f.Clash == nil:
		return []string{f.Message}
	}
	var out []string
	for _, with := range f.Clash.With {
		out = append(out, unorderedKey(f.Code, f.Clash.Of, with))
	}
	if f.Clash.More {
		out = append(out, moreThan(f.Clash))
	}
	return out
}

// unorderedKey returns what tells an overlap of two claims, of which either may be the first.
func unorderedKey(code estate.Code, a, b string) string {
	return fmt.Sprint(code, " ", min(a, b), " / ", max(a, b))
}

// moreThan tells that a claim overlapped with more than were named: which ones those
// were, and whether one that is named now was among them, is not known.
func moreThan(x *estate.Clash) string { return x.Of + " and others" }

// prefixesOf returns the prefixes of a fault, as text.
func prefixesOf(f *estate.Fault) []string {
	out := []string{}
	for _, p := range f.Prefixes {
		out = append(out, p.String())
	}
	return out
}

// segmentsOfEdits returns the segments whose routes some edits may change: those
// in which the networks that they speak of, or their peers, live before or after;
// nil for all.
func segmentsOfEdits(before, after *estate.Estate, edits []wiring.Edit) map[string]bool {
	touched := map[string]bool{}
	for i := range edits {
		if edits[i].Network == "" {
			return nil // hubs, links and exits are everybody's
		}
		touched[edits[i].Network] = true
		touched[edits[i].Other] = true
	}
	for _, p := range before.Peerings {
		for k, name := range p.Between {
			for i := range edits {
				if edits[i].Network == name {
					touched[p.Between[1-k]] = true
				}
			}
		}
	}
	out := map[string]bool{}
	for _, e := range []*estate.Estate{before, after} {
		for i := range e.Networks {
			if n := &e.Networks[i]; touched[n.Name] {
				out[n.Segment] = true
				for k := range n.Subnets {
					out[n.SegmentOf(&n.Subnets[k])] = true
				}
			}
		}
		for i := range e.Attachments {
			a := &e.Attachments[i]
			if !touched[a.Network] {
				continue
			}
			for _, x := range a.Static {
				out[x.Segment] = true
			}
			for _, x := range a.Learned {
				out[x.Segment] = true
			}
		}
	}
	return out
}

// Rewire makes some edits of the wiring, if the estate is still at revision based.
// Edits that would bring a fault are refused.
func (a *App) Rewire(ctx context.Context, edits []wiring.Edit, based int64, actor string) (*Rewired, error) {
	return a.rewired(ctx, &step{what: store.Edit, actor: actor, based: based, key: keyOfWiring(edits), change: func(now *view.Snapshot) (*estate.Estate, error) {
		next, err := rewire(now, edits)
		if err != nil {
			return nil, err
		}
		j, _ := recompile.Revise(now.Judge, next)
		if refused := refusals(now, append(checkWired(next, segmentsOfEdits(now.Estate, next, edits)), findings.ShareFaults(j)...)); len(refused) > 0 {
			var problems view.Problems
			for _, r := range refused {
				problems = append(problems, view.Problem{At: "edits", Message: r.Message, Fix: r.Fix})
			}
			return nil, problems
		}
		return next, nil
	}}, func(before, after *estate.Estate) map[string]bool { return segmentsOfEdits(before, after, edits) })
}

// rewired takes a step of the wiring, and returns what it changed; segments tells in which
// routes may differ, nil for all.
func (a *App) rewired(ctx context.Context, s *step, segments func(before, after *estate.Estate) map[string]bool) (*Rewired, error) {
	out := &Rewired{Refused: []view.Refusal{}, Routes: []RouteChange{}}
	s.then = func(before, after *view.Snapshot, d *difference.Difference) error {
		out.Effect = effect(before, after, d, maxFlows)
		out.Revision, out.Effect.Revision = after.Revision, after.Revision
		out.Routes, out.More = routeChanges(before.Judge.Net, after.Judge.Net, segments(before.Estate, after.Estate), nil)
		return nil
	}
	if err := a.advance(ctx, s); err != nil {
		return nil, err
	}
	return out, nil
}

// Undo takes back the last step, if the estate is still at revision based. What a
// reading brought is not taken back: the next one would bring it again.
func (a *App) Undo(ctx context.Context, based int64, actor string) (*Rewired, error) {
	return a.rewired(ctx, &step{what: store.Edit, actor: actor, based: based, change: func(now *view.Snapshot) (*estate.Estate, error) {
		was, err := a.Store.Before(ctx, based)
		var unreadable document.Errors
		switch {
		case errors.Is(err, store.ErrNotFound):
			return nil, &view.Problem{At: "revision", Message: "there is no edit to undo", Fix: "syncs, learned prefixes and the first revision cannot be undone"}
		case errors.As(err, &unreadable):
			return nil, &view.Problem{At: "revision", Message: "the earlier state cannot be read: " + unreadable[0].Error(), Fix: "edit the current state instead"}
		case err != nil:
			return nil, err
		}
		return document.Shared(now.Estate, was), nil
	}}, func(_, _ *estate.Estate) map[string]bool { return nil })
}

// routeChanges returns the routes at hubs that differ between two nets, of some segments
// or, for nil, of all, in order; and how many there are beyond those. Unless moved is nil,
// only prefixes can be reached otherwise that are one of its networks' in either net.
func routeChanges(old, next *paths.Net, segments, moved map[string]bool) (changes []RouteChange, more int) {
	changes = []RouteChange{}
	at := map[string]int{}
	var was, is []hubWay // room for those of one hub after another
	for _, segment := range next.Segments {
		if old.Segment(segment) == paths.None || segments != nil && !segments[segment] {
			continue
		}
		before, after := ways{net: old, segment: old.Segment(segment)}, ways{net: next, segment: next.Segment(segment)}
		before.homes, after.homes = old.RoutedHomes(before.segment), next.RoutedHomes(after.segment)
		if moved != nil {
			some := map[netip.Prefix]bool{}
			before.tell(moved, some)
			after.tell(moved, some)
			before.keep(some)
			after.keep(some)
		}
		for _, hub := range next.Hubs {
			if old.Hub(hub) == paths.None {
				continue
			}
			was, is = before.from(hub, was[:0]), after.from(hub, is[:0])
			eachTurned(was, is, func(prefix netip.Prefix, was, is wayOut) {
				put(at, &changes, RouteChange{Segment: segment, Prefix: prefix.String(), Before: was.words(), After: is.words()}, hub)
			})
		}
	}
	slices.SortFunc(changes, func(a, b RouteChange) int {
		return strings.Compare(a.Segment+" "+a.Prefix+a.Before+a.After, b.Segment+" "+b.Prefix+b.Before+b.After)
	})
	more = max(0, len(changes)-maxRoutes)
	return changes[:len(changes)-more], more
}

// wayOut is how a hub reaches a prefix, so that hubs with the same way out have the
// same; the zero one is none.
type wayOut struct {
	kind                   string
	exit, network, leaving string // the hub that it leaves by
}

func (w wayOut) words() string {
	switch w.kind {
	case "exit":
		return "exit " + w.exit
	case "attached":
		return w.network + " at " + w.leaving
	}
	return w.kind
}

// hubWay is a prefix and how it is reached.
type hubWay struct {
	prefix netip.Prefix
	wayOut
}

// ways are those to the homes that hubs have routes to in a segment.
type ways struct {
	net     *paths.Net
	segment int
	homes   []paths.Home
}

// tell notes the prefixes of some networks.
func (x *ways) tell(networks map[string]bool, prefixes map[netip.Prefix]bool) {
	for _, home := range x.homes {
		if home.Network != paths.None && networks[x.net.Networks[home.Network].Name] {
			prefixes[home.Prefix] = true
		}
	}
}

// keep leaves the ways to some prefixes.
func (x *ways) keep(prefixes map[netip.Prefix]bool) {
	x.homes = slices.DeleteFunc(x.homes, func(home paths.Home) bool { return !prefixes[home.Prefix] })
}

// from adds how each prefix is reached from a hub.
func (x *ways) from(hub string, out []hubWay) []hubWay {
	net := x.net
	net.EachHubRoute(x.segment, net.Hub(hub), x.homes, func(home paths.Home, p paths.Path) {
		w := hubWay{prefix: home.Prefix}
		switch {
		case p.Kind == paths.NoPath:
			w.kind = "dead route"
		case home.Network == paths.None:
			w.kind, w.exit = "exit", net.Exits[p.Exit].Name
		default:
			a := &net.Attachments[p.Leave]
			w.kind, w.network, w.leaving = "attached", net.Networks[a.Network].Name, net.Hubs[a.Hub]
		}
		out = append(out, w)
	})
	return out
}

// eachTurned calls f for each prefix that is reached otherwise. Where nearly all is as
// before, so is its order: what is the same up to the first difference, and from the
// last one on, is left aside.
func eachTurned(was, is []hubWay, f func(prefix netip.Prefix, was, is wayOut)) {
	for len(was) > 0 && len(is) > 0 && was[0] == is[0] {
		was, is = was[1:], is[1:]
	}
	for len(was) > 0 && len(is) > 0 && was[len(was)-1] == is[len(is)-1] {
		was, is = was[:len(was)-1], is[:len(is)-1]
	}
	next := make(map[netip.Prefix]wayOut, len(is))
	for _, w := range is {
		next[w.prefix] = w.wayOut
	}
	for _, w := range was {
		if now := next[w.prefix]; now != w.wayOut {
			f(w.prefix, w.wayOut, now)
		}
		delete(next, w.prefix)
	}
	for prefix, now := range next {
		f(prefix, wayOut{}, now)
	}
}

func put(at map[string]int, changes *[]RouteChange, c RouteChange, hub string) {
	key := c.Segment + " " + c.Prefix + " " + c.Before + " " + c.After
	i, ok := at[key]
	if !ok {
		i = len(*changes)
		at[key] = i
		*changes = append(*changes, c)
	}
	(*changes)[i].Hubs = append((*changes)[i].Hubs, hub)
}
