package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/inventory"
	"bivium/core/parallel"
	"bivium/core/recompile"
	"bivium/core/verdict"
	"bivium/internal/app/view"
)

// Consequence is what an edit would change, or has changed (C1.5).
type Consequence struct {
	Revision int64              `json:"revision"`
	Refused  []view.Refusal     `json:"refused"` // faults that it would bring; nothing but InUse is told then
	InUse    *InUse             `json:"inUse"`   // it deletes what others refer to
	Objects  []inventory.Change `json:"objects"` // that come, change and go
	Effect   *Effect            `json:"effect"`
	Routes   []RouteChange      `json:"routes"`
	More     int                `json:"more"` // changes of routes that are not shown
	Groups   []GroupChange      `json:"groups"`
	About    *view.About        `json:"about"` // of the thing that its last operation puts; null for none
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

func inUse(u *edit.InUse) *InUse {
	return &InUse{
		Thing: view.Thing{Kind: string(u.Thing.Kind), Name: u.Thing.Name}, By: view.Things(u.By),
		Changed: view.Things(u.Along.Changed), Gone: view.Things(u.Along.Gone), Operations: u.Along.Edit.Operations,
	}
}

// Try returns what an edit would change of a snapshot.
func (a *App) Try(ctx context.Context, s *view.Snapshot, x *Edit) (*Consequence, error) {
	nothing := &Consequence{Revision: s.Revision, Refused: []view.Refusal{}, Objects: []inventory.Change{}, Routes: []RouteChange{}, Groups: []GroupChange{}}
	r, err := a.on(ctx, s, x)
	var used *edit.InUse
	switch {
	case errors.As(err, &used):
		nothing.InUse = inUse(used)
		return nothing, nil
	case err != nil:
		return nil, err
	}
	p, refused, err := workOut(s, x.key(), r)
	if err != nil {
		return nil, err
	}
	if len(refused) > 0 {
		nothing.Refused = refused
		return nothing, nil
	}
	after := s.Ahead(p)
	out := consequence(s, after, p)
	if put := r.Put[len(r.Put)-1]; put.Name != "" {
		out.About = after.About(put)
	}
	return out, nil
}

// workOut returns the plan of an edit of a snapshot, or the faults that it would bring.
func workOut(s *view.Snapshot, key *view.PlanKey, r *edit.Result) (*view.Plan, []view.Refusal, error) {
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
		return nil, nil, problemsOf(unfit)
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

// refusedBy returns the faults that a plan would bring which was not tried.
func refusedBy(s *view.Snapshot, p *view.Plan, put []estate.Ref) []view.Refusal {
	touched := touchedBy(s.Estate, p)
	faults := touched.check()
	if touched.places {
		j, _ := recompile.Revise(s.Judge, p.Next)
		faults = append(faults, findings.ShareFaults(j)...)
	}
	return refusals(s, p.Next, put, faults)
}

// consequence tells what a plan changes between two snapshots.
func consequence(before, after *view.Snapshot, p *view.Plan) *Consequence {
	out := &Consequence{Revision: after.Revision, Refused: []view.Refusal{}, Routes: []RouteChange{}}
	touched := touchedBy(before.Estate, p)
	var routed, grouped parallel.Group
	routed.Go(func() {
		out.Objects = touched.objects()
		if touched.places {
			var moved map[string]bool
			if p.Moved != nil {
				moved = movedNetworks(before.Judge.Net, after.Judge.Net, p.Moved)
			}
			out.Routes, out.More = routeChanges(before.Judge.Net, after.Judge.Net, touched.segments(), moved)
		}
	})
	grouped.Go(func() { out.Groups = groupChanges(before, after, p.Former) })
	if touched.only(estate.KindHub, estate.KindLink, estate.KindNetwork, estate.KindAttachment, estate.KindPeering) {
		out.Effect = effectOnFlows(before, after, &p.Changed, maxFlows) // those touch most cells
	} else {
		out.Effect = effect(before, after, &p.Changed, maxFlows)
	}
	out.Effect.Revision = after.Revision
	routed.Wait()
	grouped.Wait()
	return out
}

// told takes a step, and returns what it changed.
func (a *App) told(ctx context.Context, s *step) (*Consequence, error) {
	var out *Consequence
	s.then = func(before, after *view.Snapshot, p *view.Plan) error {
		out = consequence(before, after, p)
		return nil
	}
	if err := a.advance(ctx, s); err != nil {
		return nil, err
	}
	if out == nil { // there was nothing to do
		revision := a.Now().Revision
		out = &Consequence{Revision: revision, Refused: []view.Refusal{}, Objects: []inventory.Change{}, Routes: []RouteChange{}, Groups: []GroupChange{}, Effect: noEffect(revision)}
	}
	return out, nil
}

// edited is told for what has an effect on flows alone.
func (a *App) edited(ctx context.Context, s *step) (*Effect, error) {
	out, err := a.told(ctx, s)
	if err != nil {
		return nil, err
	}
	return out.Effect, nil
}

func noEffect(revision int64) *Effect {
	return &Effect{Revision: revision, Cells: []CellEffect{}, Flows: []FlowEffect{}, Expectations: []Expectation{}}
}

// touched is what an edit puts, renames and deletes, and what has to be looked at for that.
type touched struct {
	before, after *estate.Estate
	changes       []document.Change
	kinds         map[estate.Kind]bool
	places        bool // routes, or who reaches what by a share, may be others
}

// rulesOnly are the kinds whose things bear on no route and no share.
var rulesOnly = []estate.Kind{estate.KindPolicy, estate.KindRulebook, estate.KindPublication, estate.KindExpectation, estate.KindService}

func touchedBy(before *estate.Estate, p *view.Plan) *touched {
	t := &touched{before: before, after: p.Next, changes: p.Changes(before), kinds: map[estate.Kind]bool{}}
	for i := range t.changes {
		if c := &t.changes[i]; !c.Moved() {
			t.kinds[document.KindOf(c.List)] = true
		}
	}
	for kind := range t.kinds {
		t.places = t.places || !slices.Contains(rulesOnly, kind)
	}
	return t
}

// only reports whether things of some kinds alone are touched.
func (t *touched) only(kinds ...estate.Kind) bool {
	for kind := range t.kinds {
		if !slices.Contains(kinds, kind) {
			return false
		}
	}
	return true
}

// check returns the faults that the estate may have by now for what was touched.
func (t *touched) check() []estate.Fault {
	switch {
	case !t.places:
		return estate.CheckRules(t.after)
	case t.kinds[estate.KindWorkload], t.kinds[estate.KindAccount], t.otherSubnets():
		return estate.Check(t.after)
	case t.only(estate.KindNetwork, estate.KindAttachment, estate.KindPeering):
		return estate.CheckPlaces(t.after, t.segments())
	}
	return estate.CheckWiring(t.after) // a segment may have gone of which rules speak
}

// otherSubnets reports whether a network came, went, or has other subnets: its workloads may
// have no place in it.
func (t *touched) otherSubnets() bool {
	if !t.kinds[estate.KindNetwork] {
		return false
	}
	subnets := map[string][]estate.Subnet{}
	for i := range t.before.Networks {
		subnets[t.before.Networks[i].Name] = t.before.Networks[i].Subnets
	}
	for i := range t.after.Networks {
		n := &t.after.Networks[i]
		was, there := subnets[n.Name]
		if !there || !slices.EqualFunc(was, n.Subnets, func(a, b estate.Subnet) bool { return a.Name == b.Name && a.Prefix == b.Prefix }) {
			return true
		}
	}
	return len(t.before.Networks) != len(t.after.Networks)
}

// networks returns the names of the networks that are touched, or that connections which are
// touched connect.
func (t *touched) networks() map[string]bool {
	out := map[string]bool{}
	for i := range t.changes {
		c := &t.changes[i]
		if c.Moved() {
			continue
		}
		for _, body := range [][]byte{c.Before, c.After} {
			var of struct {
				Name, Network string
				Between       []string
			}
			if body == nil || json.Unmarshal(body, &of) != nil {
				continue
			}
			switch document.KindOf(c.List) {
			case estate.KindNetwork:
				out[of.Name] = true
			case estate.KindAttachment:
				out[of.Network] = true
			case estate.KindPeering:
				for _, name := range of.Between {
					out[name] = true
				}
			}
		}
	}
	return out
}

// segments returns the segments whose routes may be others: those in which the networks that
// are touched, or their peers, live before or after; nil for all.
func (t *touched) segments() map[string]bool {
	if !t.only(estate.KindNetwork, estate.KindAttachment, estate.KindPeering) {
		return nil // hubs, links, exits and shares are everybody's
	}
	networks := t.networks()
	for _, p := range t.before.Peerings {
		for k, name := range p.Between {
			if networks[name] {
				networks[p.Between[1-k]] = true
			}
		}
	}
	out := map[string]bool{}
	for _, e := range []*estate.Estate{t.before, t.after} {
		for i := range e.Networks {
			if n := &e.Networks[i]; networks[n.Name] {
				out[n.Segment] = true
				for k := range n.Subnets {
					out[n.SegmentOf(&n.Subnets[k])] = true
				}
			}
		}
		for i := range e.Attachments {
			a := &e.Attachments[i]
			if !networks[a.Network] {
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

// maxObjects is how many objects that an edit changes are told.
const maxObjects = 200

// objects tells which things come, change and go.
func (t *touched) objects() []inventory.Change {
	out := []inventory.Change{}
	for i := range t.changes {
		c := &t.changes[i]
		if c.Moved() {
			continue
		}
		x := inventory.Change{Kind: inventory.Kind(document.KindOf(c.List)), Name: c.Key, What: inventory.Changed}
		switch {
		case c.Before == nil:
			x.What = inventory.New
		case c.After == nil:
			x.What = inventory.Gone
		case c.Was != "":
			x.How = fmt.Sprintf("renamed from %s", c.Was)
		}
		if len(out) < maxObjects {
			out = append(out, x)
		}
	}
	return out
}

// GroupChange is a group whose members are others than before.
type GroupChange struct {
	Name   string   `json:"name"`
	Before int      `json:"before"` // workloads
	After  int      `json:"after"`
	Gained []string `json:"gained"` // the first of them
	Lost   []string `json:"lost"`
}

// groupChanges returns the groups whose workloads are others, by name. Groups that were
// renamed are the same. Cost: the workloads, where groups, networks or workloads changed.
func groupChanges(before, after *view.Snapshot, former map[estate.Ref]string) []GroupChange {
	out := []GroupChange{}
	if document.SameLists(before.Estate, after.Estate, "groups", "workloads") {
		return out
	}
	was, is := memberNames(before), memberNames(after)
	name := func(ref estate.Ref) string {
		if old := former[ref]; old != "" {
			return old
		}
		return ref.Name
	}
	seen := map[string]bool{}
	for i := range after.Estate.Groups {
		g := after.Estate.Groups[i].Name
		old := name(estate.Ref{Kind: estate.KindGroup, Name: g})
		seen[old] = true
		if c, other := groupChange(g, was(old), is(g)); other {
			out = append(out, c)
		}
	}
	for i := range before.Estate.Groups {
		if g := before.Estate.Groups[i].Name; !seen[g] {
			if c, other := groupChange(g, was(g), nil); other {
				out = append(out, c)
			}
		}
	}
	slices.SortFunc(out, func(a, b GroupChange) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// memberNames returns the names of the workloads in each group, sorted, when a group is asked
// for.
func memberNames(s *view.Snapshot) func(group string) []string {
	by := s.MembersOf()
	return func(group string) []string {
		out := make([]string, len(by[group]))
		for i, w := range by[group] {
			out[i] = s.Estate.Workloads[w].Name
		}
		slices.Sort(out)
		return out
	}
}

func groupChange(name string, was, is []string) (GroupChange, bool) {
	c := GroupChange{Name: name, Before: len(was), After: len(is), Gained: beyond(is, was), Lost: beyond(was, is)}
	return c, len(c.Gained) > 0 || len(c.Lost) > 0
}

// maxNamedMembers is how many members that come or go are named.
const maxNamedMembers = 12

// beyond returns the first of those names of a that are not in b; both are sorted.
func beyond(a, b []string) []string {
	out := []string{}
	for i, k := 0, 0; i < len(a) && len(out) < maxNamedMembers; {
		switch {
		case k == len(b) || a[i] < b[k]:
			out = append(out, a[i])
			i++
		case a[i] == b[k]:
			i++
			k++
		default:
			k++
		}
	}
	return out
}

// remedy gives refusals the edits that would avoid them.
func remedy(p *view.Plan, j *verdict.Judge, t *touched, refused []view.Refusal) {
	r := view.Remedies{E: p.Next, Net: j.Net}
	networks := t.networks()
	for i := range refused {
		refused[i].Remedies = r.RemediesFor(networks, &refused[i])
	}
}
