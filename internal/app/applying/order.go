package applying

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"bivium/core/native/plan"
	"bivium/internal/app/view"
	"bivium/internal/notices"
	"bivium/internal/people"
	"bivium/internal/store"
	"bivium/internal/wording"
)

// What brings a plan.
const (
	CauseEdit   = "edit"   // somebody changed the estate
	CauseSync   = "sync"   // accounts have something else
	CauseRouter = "router" // routes were learned, or withdrawn
	CauseDrift  = "drift"  // somebody asks for what targets have otherwise to be put right
)

// Order is what a plan is asked for.
type Order struct {
	Cause, Actor string
	Before       *view.Snapshot // the estate that was in force before; nil for that of now
	After        *view.Snapshot // nil for that of now
	Staged       bool           // send packets after each step, and go back if one does not come out as predicted
	PutRight     bool           // write also what targets hold otherwise than Bivium left it
}

// stored is a plan as it is kept.
type stored struct {
	Writes   []plan.Write        `json:"writes"`
	Versions map[string]string   `json:"versions"` // by document: what it was planned on
	Hashes   map[string]string   `json:"hashes"`   // by document: what it held then
	By       map[string][]string `json:"by"`       // by document: who wrote rules that go
	Open     []Flow              `json:"open"`
	Cut      []Flow              `json:"cut"`
	Ends     []Flow              `json:"ends"`
	Counted  bool                `json:"counted"`
	Packets  int                 `json:"packets"`
	Skipped  bool                `json:"skipped"`
	Unread   map[string]string   `json:"unread"` // by target
	Refused  []string            `json:"refused"`
	Staged   bool                `json:"staged"`
	Known    []string            `json:"known"`  // packets that did something else before, of one that is carried out in stages
	Absent   []string            `json:"absent"` // targets that are not connected, and would have to hold something else
	From     int64               `json:"from"`   // the revision that it leads from
}

// Flow is flows that do something else while a plan is carried out.
type Flow struct {
	After    int          `json:"after"` // writes that are done by then
	Witness  view.Witness `json:"witness"`
	Services int          `json:"services"`
	Before   string       `json:"before"`
	Between  string       `json:"between"`
	Then     string       `json:"then"`
}

// prepared is a plan that was made, and not stored.
type prepared struct {
	stored
	revision int64
	already  []store.InForce // what targets hold already
	moves    bool
}

// prepare reads what targets hold, and plans what leads to what they should.
func (s *Service) prepare(ctx context.Context, o *Order) (*prepared, error) {
	if o.After == nil {
		o.After = s.app.Now()
	}
	if o.Before == nil {
		o.Before = s.app.Now()
	}
	connected, err := s.connected(ctx, o.After)
	if err != nil {
		return nil, err
	}
	w, err := s.wants(o.After)
	if err != nil {
		return nil, err
	}
	wants := w.documents
	known, err := s.inForce(ctx)
	if err != nil {
		return nil, err
	}
	keys := slices.Collect(maps.Keys(wants))
	for key := range known {
		if wants[key] == nil {
			keys = append(keys, key)
		}
	}
	h, err := s.read(ctx, keys, connected)
	if err != nil {
		return nil, err
	}
	due := map[plan.Key]bool{}
	for _, key := range w.behind(digestsOf(known), connected) {
		due[key] = true
	}
	before := map[plan.Key]*plan.Body{}
	for key, body := range wants {
		before[key] = body // of targets that nobody can read
	}
	for key, k := range known {
		before[key] = k.Body()
	}
	out := &prepared{revision: o.After.Revision}
	for key := range before {
		if connected[key.Target()] && h.problems[key.Target()] == "" && (key.Target() == plan.Hubs || h.read[key.Target()] != nil) {
			before[key] = h.bodies[key]
		}
	}
	for key, body := range h.bodies {
		before[key] = body
	}
	b, err := s.books.Of(o.After)
	if err != nil {
		return nil, err
	}
	cfg, _ := b.Config()
	like := plan.State{Config: cfg, Estate: o.After.Estate}
	wanted := func(key plan.Key) bool {
		if !w.writable(key, connected) || key.Kind == plan.KindRoutes && h.versions[key] == "" {
			return false
		}
		return due[key] || o.PutRight
	}
	then := maps.Clone(wants) // accounts that are observed only keep what they have
	for key, body := range before {
		if o.After.Estate.Observes(key.Account) {
			then[key] = body
		}
	}
	first, last := plan.StateOf(before, like), plan.StateOf(then, like)
	p := plan.Make(first, last, wanted)
	for i := range p.Writes {
		delete(due, p.Writes[i].Key)
	}
	for key := range due { // what nothing is to be written of is as it should be, if it could be read
		if (wanted(key) || plan.Same(before[key], wants[key])) && h.problems[key.Target()] == "" {
			out.already = append(out.already, *s.record(key, wants[key], o.After.Revision))
		}
	}
	checked := p.Check(first, last, o.Before.Matrix, o.After.Matrix)
	out.fill(p, h, before, checked, o.After)
	for name := range w.unfit.networks {
		out.Refused = append(out.Refused, name)
	}
	slices.Sort(out.Refused)
	out.Absent = append(out.Absent, absent(wants, s.wantsOf(o.Before), connected)...)
	return out, nil
}

// wantsOf returns what targets had to hold at another revision; nothing where that is not known.
func (s *Service) wantsOf(now *view.Snapshot) map[plan.Key]*plan.Body {
	w, err := s.wants(now)
	if err != nil {
		return nil
	}
	return w.documents
}

// absent returns the targets that are not connected and would have to hold something else.
func absent(wants, had map[plan.Key]*plan.Body, connected map[string]bool) []string {
	found := map[string]bool{}
	for key, body := range wants {
		if t := key.Target(); t != "" && !connected[t] && !plan.Same(body, had[key]) {
			found[t] = true
		}
	}
	return slices.Sorted(maps.Keys(found))
}

// Body returns the body of a document that is in force.
func (k *known) Body() *plan.Body { return k.document.Body }

func (p *prepared) fill(made *plan.Plan, h *held, before map[plan.Key]*plan.Body, checked *plan.Checked, now *view.Snapshot) {
	p.Writes, p.Versions, p.Hashes, p.By = made.Writes, map[string]string{}, map[string]string{}, map[string][]string{}
	for i := range made.Writes {
		w := &made.Writes[i]
		key := w.Key.String()
		p.Versions[key] = h.versions[w.Key]
		if before[w.Key] != nil {
			p.Hashes[key] = plan.Hash(before[w.Key])
		}
		for _, by := range h.by[w.Key] {
			if by != "" && !slices.Contains(p.By[key], by) {
				p.By[key] = append(p.By[key], by)
			}
		}
		p.moves = p.moves || w.Step == plan.Move
	}
	p.Packets, p.Skipped, p.Unread = checked.Packets, checked.Skipped, h.problems
	p.Open, p.Cut, p.Ends, p.Counted = flowsOf(checked.Open, now), flowsOf(checked.Cut, now), flowsOf(checked.Ends, now), checked.Counted
	p.Absent, p.Refused = []string{}, []string{}
}

// mostFlows is how many flows a plan names.
const mostFlows = 200

func flowsOf(found []plan.Found, now *view.Snapshot) []Flow {
	out := []Flow{}
	for i := range found {
		if f := &found[i]; i < mostFlows {
			out = append(out, Flow{f.After, now.WitnessOf(f.Flow), f.Services, wording.Fate(&f.Before), wording.Fate(&f.Between), wording.Fate(&f.Then)})
		}
	}
	return out
}

// Preview returns the plan that would be made.
func (s *Service) Preview(ctx context.Context, o Order) (*View, error) {
	s.planning.Lock()
	defer s.planning.Unlock()
	p, err := s.prepare(ctx, &o)
	if err != nil {
		return nil, err
	}
	row := &store.Plan{Revision: p.revision, Cause: o.Cause, Actor: o.Actor, Made: s.clock()}
	return s.viewOf(row, &p.stored, make([]store.PlanWrite, len(p.Writes))), nil
}

// Begin makes a plan, stores it in place of the one that is under way, and carries it out, unless
// a person must start it: where routes move that no person moved, or where flows would pass on
// the way that pass neither before nor after.
func (s *Service) Begin(ctx context.Context, o Order) (*View, error) {
	s.planning.Lock()
	defer s.planning.Unlock()
	r := s.current()
	if r != nil {
		r.stop() // what it has written by now is what the next one begins with
	}
	p, err := s.prepare(ctx, &o)
	if err != nil {
		return nil, err
	}
	if err := s.store.PutInForce(ctx, p.already); err != nil {
		return nil, err
	}
	if len(p.Writes) == 0 {
		if r != nil && r.open() {
			err = s.move(ctx, r, store.PlanSuperseded, "nothing is left to be written")
		}
		s.told()
		return nil, err
	}
	row := &store.Plan{Revision: p.revision, Cause: o.Cause, Actor: o.Actor, Made: s.clock(), State: store.PlanRunning}
	switch {
	case len(p.Open) > 0:
		row.State, row.Why = store.PlanAsks, fmt.Sprintf("it would open %d kinds of flow temporarily that are allowed neither before nor after", len(p.Open))
	case p.moves && o.Cause == CauseSync:
		row.State, row.Why = store.PlanAsks, "a sync changed routes, so a person must start it"
	}
	p.Staged, p.From = o.Staged, o.Before.Revision
	if o.Staged {
		if p.Known, err = s.baseline(ctx, o.Before); err != nil {
			return nil, err
		}
	}
	if row.Body, err = json.Marshal(&p.stored); err != nil {
		return nil, err
	}
	if err := s.store.AddPlan(ctx, row, len(p.Writes)); err != nil {
		return nil, err
	}
	s.mu.Lock()
	s.before = o.Before
	s.mu.Unlock()
	if err := s.takeUp(ctx, row, false); err != nil {
		return nil, err
	}
	if row.State == store.PlanAsks {
		s.tells.Tell(ctx, s.tells.Operators(), notices.Notice{
			Kind: notices.Waits, Subject: fmt.Sprintf("Plan %d waits for a person to start it", row.ID), Body: row.Why + ".", Link: fmt.Sprintf("/changes/plans/%d", row.ID),
		})
	}
	if o.Cause != CauseRouter {
		if err := s.audit.Add(ctx, people.System(actorOr(o.Actor)), "plan made", fmt.Sprintf("plan %d", row.ID), fmt.Sprintf("%d writes for revision %d", len(p.Writes), p.revision)); err != nil {
			return nil, err
		}
	}
	return s.Plan(ctx, row.ID)
}

// actorOr returns who ordered something; Bivium itself where nobody did.
func actorOr(name string) string {
	if name == "" {
		return "bivium"
	}
	return name
}
