// Package consequence tells what an edit changes between two snapshots, or why it is refused
// (C1.5): objects, faults, groups, routes, flows and expectations.
package consequence

import (
	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/parallel"
	"bivium/core/recompile"
	"bivium/internal/app/rules"
	"bivium/internal/app/view"
)

// Consequence is what an edit would change, or has changed (C1.5).
type Consequence struct {
	Revision int64          `json:"revision"`
	Refused  []view.Refusal `json:"refused"` // faults that it would bring; nothing but InUse is told then
	InUse    *InUse         `json:"inUse"`   // it deletes what others refer to
	Objects  []view.Change  `json:"objects"` // that come, change and go
	Effect   *Effect        `json:"effect"`
	Routes   []RouteChange  `json:"routes"`
	More     int            `json:"more"` // changes of routes that are not shown
	Groups   []GroupChange  `json:"groups"`
	About    *rules.About   `json:"about"` // of the thing that its last operation puts; null for none
}

// InUse is what refers to a thing that cannot be deleted for that, and the edit that deletes
// it with all of that.
type InUse struct {
	Thing      view.Thing       `json:"thing"`
	By         []view.Thing     `json:"by"`
	Changed    []view.Thing     `json:"changed"` // loses the name, and stays
	Gone       []view.Thing     `json:"gone"`    // goes along
	Operations []edit.Operation `json:"operations"`
}

// UseOf tells what refers to a thing that an edit would delete.
func UseOf(u *edit.InUse) *InUse {
	return &InUse{
		Thing: view.Thing{Kind: string(u.Thing.Kind), Name: u.Thing.Name}, By: view.Things(u.By),
		Changed: view.Things(u.Along.Changed), Gone: view.Things(u.Along.Gone), Operations: u.Along.Edit.Operations,
	}
}

// WorkOut returns the plan of an edit of a snapshot, or the faults that it would bring.
func WorkOut(s *view.Snapshot, key *view.PlanKey, r *edit.Result) (*view.Plan, []view.Refusal, error) {
	if known := s.Plans.Find(key); known != nil {
		return known, nil, nil
	}
	p := &view.Plan{Next: r.Estate, Former: r.Former()}
	// Edits that bring a fault are rare: what they would do is worked out meanwhile.
	touched := touchedBy(s.Estate, p)
	var faults []estate.Fault
	var unfit []*document.Unreadable
	var checked parallel.Group
	checked.Go(func() {
		faults = touched.check()
		unfit = document.Admit(touched.changes, p.Next)
	})
	j, moved := recompile.Revise(s.Judge, p.Next)
	p.Analysis, p.Changed = s.Analysis.Follow(j, &moved)
	p.Moved = &moved
	checked.Wait()
	if len(unfit) > 0 {
		return nil, nil, view.ProblemsOf(unfit)
	}
	if touched.places {
		faults = append(faults, findings.ShareFaultsAfter(p.Analysis.Matrix)...)
	}
	if refused := refusals(s, p.Next, r.Put, faults); len(refused) > 0 {
		remedy(p, j, touched, refused)
		return nil, refused, nil
	}
	s.Plans.Keep(key, p)
	return p, nil, nil
}

// RefusedBy returns the faults that a plan would bring which was not tried.
func RefusedBy(s *view.Snapshot, p *view.Plan, put []estate.Ref) []view.Refusal {
	touched := touchedBy(s.Estate, p)
	faults := touched.check()
	if touched.places {
		j, _ := recompile.Revise(s.Judge, p.Next)
		faults = append(faults, findings.ShareFaults(j)...)
	}
	return refusals(s, p.Next, put, faults)
}

// Of tells what a plan changes between two snapshots.
func Of(before, after *view.Snapshot, p *view.Plan) *Consequence {
	out := Nothing(after.Revision)
	touched := touchedBy(before.Estate, p)
	var routed, grouped parallel.Group
	routed.Go(func() {
		out.Objects = touched.objects()
		if touched.places {
			var moved map[string]bool
			if p.Moved != nil {
				moved = movedNetworks(before.Judge.Net, after.Judge.Net, p.Moved)
			}
			out.Routes, out.More = inOrder(append(routeChanges(before.Judge.Net, after.Judge.Net, touched.segments(), moved), sharedChanges(before, after, touched)...))
		}
	})
	grouped.Go(func() { out.Groups = groupChanges(before, after, p.Former) })
	if touched.only(estate.KindHub, estate.KindLink, estate.KindNetwork, estate.KindAttachment, estate.KindPeering) {
		out.Effect = EffectOnFlows(before, after, &p.Changed, MaxFlows) // those touch most cells
	} else {
		out.Effect = EffectOf(before, after, &p.Changed, MaxFlows)
	}
	out.Effect.Revision = after.Revision
	routed.Wait()
	grouped.Wait()
	return out
}

// Nothing returns a consequence in which nothing is told yet.
func Nothing(revision int64) *Consequence {
	return &Consequence{Revision: revision, Refused: []view.Refusal{}, Objects: []view.Change{}, Routes: []RouteChange{}, Groups: []GroupChange{}}
}

// NoEffect returns an effect on no flow.
func NoEffect(revision int64) *Effect {
	return &Effect{Revision: revision, Cells: []CellEffect{}, Flows: []FlowEffect{}, Expectations: []Expectation{}}
}
