package applying

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"bivium/core/native/plan"
	"bivium/internal/app/targets"
	"bivium/internal/app/view"
	"bivium/internal/store"
)

func problem(at, message, fix string) error {
	return &view.Problem{At: at, Message: message, Fix: fix}
}

// View is a plan to be read.
type View struct {
	ID       int64        `json:"id"` // 0 of one that is not stored
	Revision int64        `json:"revision"`
	Cause    string       `json:"cause"`
	Actor    string       `json:"actor"`
	Made     time.Time    `json:"made"`
	Ended    *time.Time   `json:"ended"` // null while it is not
	State    string       `json:"state"`
	Why      string       `json:"why"`
	Writes   []WriteView  `json:"writes"` // all, or as many as Fold leaves
	Steps    []StepView   `json:"steps"`
	Targets  []TargetView `json:"targets"`
	Open     []Flow       `json:"open"`    // pass on the way, and neither before nor after
	Cut      []Flow       `json:"cut"`     // pass before and after, and not on the way
	Ends     []Flow       `json:"ends"`    // pass before, and not after: their sessions end
	Counted  bool         `json:"counted"` // ends is complete
	Seconds  float64      `json:"seconds"` // that what is left should take
	Packets  int          `json:"packets"`
	Skipped  bool         `json:"skipped"` // there were too many classes to check the states in between
	Refused  []string     `json:"refused"` // networks whose rules do not fit
	Staged   bool         `json:"staged"`
	Absent   []string     `json:"absent"` // targets that are not connected
}

// WriteView is a write to be read.
type WriteView struct {
	Number  int        `json:"number"`
	Step    string     `json:"step"`
	Target  string     `json:"target"`
	Title   string     `json:"title"`
	Added   []string   `json:"added"`
	Removed []string   `json:"removed"`
	By      []string   `json:"by"` // who wrote rules that go, where the provider knows
	Kept    int        `json:"kept"`
	Holds   int        `json:"holds"`
	Limit   int        `json:"limit"`
	Narrow  bool       `json:"narrow"`
	Waits   []int      `json:"waits"` // those that are not done yet
	State   string     `json:"state"`
	Why     string     `json:"why"`
	Tries   int        `json:"tries"`
	At      *time.Time `json:"at"` // of the last try; null before the first
}

// StepView is how many writes a step has.
type StepView struct {
	Step   string `json:"step"`
	Writes int    `json:"writes"`
}

// mostTroubled is how many writes that failed are told of a step, however few are wanted.
const mostTroubled = 200

// Fold leaves so many writes of each step, those first that failed; of one target, unless it is "".
// Steps tells how many there are.
func (v *View) Fold(most int, target string) {
	v.Steps = []StepView{}
	var left []WriteView
	for _, step := range plan.Steps() {
		var of, troubled []WriteView
		for i := range v.Writes {
			switch w := &v.Writes[i]; {
			case w.Step != string(step) || target != "" && w.Target != target:
			case w.State != store.WriteDone && w.State != store.WriteWaiting:
				troubled = append(troubled, *w)
			default:
				of = append(of, *w)
			}
		}
		if n := len(of) + len(troubled); n > 0 {
			v.Steps = append(v.Steps, StepView{string(step), n})
		}
		troubled = troubled[:min(len(troubled), max(most, mostTroubled))]
		left = append(left, troubled...)
		left = append(left, of[:min(len(of), max(0, most-len(troubled)))]...)
	}
	v.Writes = append([]WriteView{}, left...)
}

// TargetView is how far one target is.
type TargetView struct {
	Name   string `json:"name"`
	Writes int    `json:"writes"`
	Done   int    `json:"done"`
	State  string `json:"state"` // done, waiting, retrying, refused or changed: the worst of its writes
	Why    string `json:"why"`
}

// worst orders the states of writes.
var worst = []string{store.WriteDone, store.WriteWaiting, store.WriteRetrying, store.WriteChanged, store.WriteRefused}

func (s *Service) viewOf(row *store.Plan, p *stored, writes []store.PlanWrite) *View {
	v := &View{
		ID: row.ID, Revision: row.Revision, Cause: row.Cause, Actor: row.Actor, Made: row.Made, State: row.State, Why: row.Why, Writes: []WriteView{}, Steps: []StepView{}, Targets: []TargetView{},
		Open: p.Open, Cut: p.Cut, Ends: p.Ends, Counted: p.Counted, Packets: p.Packets, Skipped: p.Skipped, Refused: p.Refused, Staged: p.Staged, Absent: p.Absent,
	}
	if v.Ends == nil { // of a plan of earlier versions
		v.Ends = []Flow{}
	}
	if !row.Ended.IsZero() {
		v.Ended = &row.Ended
	} else {
		v.Seconds = s.paces.left(p.Writes, writes).Seconds()
	}
	byTarget := map[string]*TargetView{}
	for i := range p.Writes {
		w, state := &p.Writes[i], &writes[i]
		x := WriteView{
			Number: i, Step: string(w.Step), Target: w.Key.Target(), Title: targets.Title(w.Key), Added: w.Added, Removed: w.Removed, By: []string{}, Kept: w.Kept, Holds: w.Holds, Limit: w.Limit,
			Narrow: w.Narrow, Waits: slices.DeleteFunc(slices.Clone(w.Waits), func(k int) bool { return writes[k].State == store.WriteDone }), State: state.State, Why: state.Why, Tries: state.Tries,
		}
		if x.State == "" {
			x.State = store.WriteWaiting
		}
		if len(w.Removed) > 0 {
			x.By = append(x.By, p.By[w.Key.String()]...)
		}
		if !state.At.IsZero() {
			x.At = &state.At
		}
		v.Writes = append(v.Writes, x)
		t := byTarget[x.Target]
		if t == nil {
			t = &TargetView{Name: x.Target, State: store.WriteDone}
			byTarget[x.Target] = t
		}
		t.Writes++
		if x.State == store.WriteDone {
			t.Done++
		}
		if slices.Index(worst, x.State) > slices.Index(worst, t.State) {
			t.State, t.Why = x.State, x.Why
		}
	}
	for _, name := range slices.Sorted(maps.Keys(byTarget)) {
		t := byTarget[name]
		if t.Why == "" && p.Unread[name] != "" && t.State != store.WriteDone {
			t.Why = p.Unread[name]
		}
		v.Targets = append(v.Targets, *t)
	}
	return v
}

// ViewOf returns a plan between two estates that no server made. now is the estate that it leads to.
func ViewOf(made *plan.Plan, checked *plan.Checked, now *view.Snapshot) *View {
	p := &prepared{}
	p.fill(made, &held{}, nil, checked, now)
	return (&Service{}).viewOf(&store.Plan{}, &p.stored, make([]store.PlanWrite, len(p.Writes)))
}

// Plan returns a plan as it is now.
func (s *Service) Plan(ctx context.Context, id int64) (*View, error) {
	row, err := s.store.PlanOf(ctx, id)
	if err != nil {
		return nil, err
	}
	var p stored
	if err := json.Unmarshal(row.Body, &p); err != nil {
		return nil, err
	}
	writes, err := s.store.PlanWrites(ctx, id)
	if err != nil {
		return nil, err
	}
	return s.viewOf(row, &p, writes), nil
}

// Status is whether targets hold what the estate asks of them.
type Status struct {
	Revision int64     `json:"revision"` // of the estate
	State    string    `json:"state"`    // unconnected, in-force, applying, partly, asks, paused, stopped or unknown
	Why      string    `json:"why"`
	Behind   []Behind  `json:"behind"`
	Hubs     bool      `json:"hubs"` // whether hubs and firewalls are connected
	Plan     int64     `json:"plan"` // the last one; 0 for none
	Done     int       `json:"done"` // of its writes
	Writes   int       `json:"writes"`
	Plans    []Summary `json:"plans"` // the last ones, the newest first
}

// Behind is a target that does not hold yet what it should.
type Behind struct {
	Target    string     `json:"target"`
	Documents []string   `json:"documents"` // the first of them
	More      int        `json:"more"`      // how many there are beside those
	Networks  []string   `json:"networks"`
	Why       string     `json:"why"`
	Since     *time.Time `json:"since"`
}

// Summary is a plan in one line.
type Summary struct {
	ID       int64     `json:"id"`
	Revision int64     `json:"revision"`
	Cause    string    `json:"cause"`
	Actor    string    `json:"actor"`
	Made     time.Time `json:"made"`
	State    string    `json:"state"`
	Why      string    `json:"why"`
}

// The states of a Status.
const (
	StateUnconnected = "unconnected" // no target is connected
	StateInForce     = "in-force"
	StateApplying    = "applying"
	StatePartly      = "partly" // some of it is in force, and the rest waits for a target or for somebody
	StateUnknown     = "unknown"
)

// mostPlans is how many of the last plans are listed.
const mostPlans = 30

// Status returns whether targets hold what the estate asks of them, as far as is known without
// reading them. Cost: the translation of the estate, the first time.
func (s *Service) Status(ctx context.Context) (*Status, error) {
	now := s.app.Now()
	out := &Status{Revision: now.Revision, State: StateInForce, Behind: []Behind{}, Plans: []Summary{}}
	last, err := s.store.Plans(ctx, mostPlans)
	if err != nil {
		return nil, err
	}
	for i := range last {
		p := &last[i]
		out.Plans = append(out.Plans, Summary{p.ID, p.Revision, p.Cause, p.Actor, p.Made, p.State, p.Why})
	}
	connected, err := s.connected(ctx, now)
	if err != nil {
		return nil, err
	}
	if out.Hubs = connected[plan.Hubs]; len(connected) == 0 {
		out.State = StateUnconnected
		return out, nil
	}
	s.mu.Lock()
	r, note, followed := s.run, s.note, s.followed
	s.mu.Unlock()
	if note != "" {
		out.State, out.Why = StateUnknown, note
		return out, nil
	}
	wants, err := s.wants(now)
	if err != nil {
		out.State, out.Why = StateUnknown, err.Error()
		return out, nil //nolint:nilerr // it is told
	}
	known, err := s.digestsInForce(ctx)
	if err != nil {
		return nil, err
	}
	missing := wants.behind(known, connected)
	idle := len(missing) == 0 && (r == nil || !r.open())
	if !idle {
		out.State = StateApplying
		if r != nil && followed == now {
			out.describe(r)
		}
	}
	out.Behind = behindOf(missing, wants.unfit, r, now, connected)
	if idle && len(out.Behind) > 0 { // what does not fit
		out.State = StatePartly
	}
	return out, nil
}

// describe tells how far the plan is that is under way.
func (o *Status) describe(r *run) {
	r.mu.Lock()
	defer r.mu.Unlock()
	o.Plan, o.Writes = r.id, len(r.writes)
	failing := false
	for i := range r.writes {
		if r.writes[i].State == store.WriteDone {
			o.Done++
		}
		failing = failing || r.writes[i].State != store.WriteDone && r.writes[i].State != store.WriteWaiting
	}
	switch r.state {
	case store.PlanAsks, store.PlanPaused, store.PlanStopped:
		o.State = r.state
	case store.PlanStuck:
		o.State = StatePartly
	default:
		if failing {
			o.State = StatePartly
		}
	}
}

// behind gathers what targets do not hold yet.
type behind struct {
	now       *view.Snapshot
	by        map[string]*Behind
	seen      map[[2]string]bool // target and network
	workloads map[string]string  // their networks; found when it is asked for
}

// mostDocuments is how many documents of a target are named.
const mostDocuments = 20

// behindOf groups by target the documents that are missing, and the networks whose rules do not fit.
func behindOf(missing []plan.Key, u *unfit, r *run, now *view.Snapshot, connected map[string]bool) []Behind {
	b := &behind{now: now, by: map[string]*Behind{}, seen: map[[2]string]bool{}}
	slices.SortFunc(missing, func(a, b plan.Key) int { return strings.Compare(a.String(), b.String()) })
	for _, key := range missing {
		b.lacks(key.Target(), targets.Title(key))
		b.networksOf(key)
	}
	for i := range now.Estate.Networks {
		n := &now.Estate.Networks[i]
		if u.networks[n.Name] && connected[n.Account] && !now.Estate.Observes(n.Account) {
			b.lacks(n.Account, "rules of network "+n.Name)
			b.network(n.Account, n.Name)
			b.by[n.Account].Why = "rules do not fit; Targets says which, and what to do"
		}
	}
	if r != nil {
		r.mu.Lock()
		defer r.mu.Unlock()
		for i := range r.writes {
			if t := b.by[r.Writes[i].Key.Target()]; t != nil && r.writes[i].Why != "" {
				t.Why = r.writes[i].Why
				at := r.writes[i].At
				t.Since = &at
			}
		}
	}
	out := []Behind{}
	for _, name := range slices.Sorted(maps.Keys(b.by)) {
		out = append(out, *b.by[name])
	}
	return out
}

// lacks notes that a target does not hold something.
func (b *behind) lacks(target, what string) {
	t := b.by[target]
	if t == nil {
		t = &Behind{Target: target, Documents: []string{}, Networks: []string{}}
		b.by[target] = t
	}
	if len(t.Documents) == mostDocuments {
		t.More++
		return
	}
	t.Documents = append(t.Documents, what)
}

func (b *behind) network(target, name string) {
	if at := [2]string{target, name}; !b.seen[at] {
		b.seen[at] = true
		b.by[target].Networks = append(b.by[target].Networks, name)
	}
}

// networksOf notes the networks that a document is about: of a list that workloads bear, all of
// their account.
func (b *behind) networksOf(key plan.Key) {
	e := b.now.Estate
	switch {
	case key.Kind == plan.KindList, key.Kind == plan.KindRoutes:
		b.network(key.Target(), key.Name)
	case key.Kind == plan.KindBinding && key.On != "":
		if b.workloads == nil {
			b.workloads = make(map[string]string, len(e.Workloads))
			for i := range e.Workloads {
				b.workloads[e.Workloads[i].Name] = e.Workloads[i].Network
			}
		}
		if network := b.workloads[key.On]; network != "" {
			b.network(key.Target(), network)
		}
	case key.Kind == plan.KindEntries, key.Kind == plan.KindBinding:
		if at := [2]string{key.Target(), ""}; !b.seen[at] { // once for each account
			b.seen[at] = true
			for i := range e.Networks {
				if n := &e.Networks[i]; n.Account == key.Account {
					b.network(key.Target(), n.Name)
				}
			}
		}
	}
}

// Why says why targets do not hold what they should, as far as is known; "" where they do.
func (s *Service) Why(ctx context.Context) string {
	status, err := s.Status(ctx)
	switch {
	case err != nil:
		return err.Error()
	case status.State == StateUnconnected:
		return "no target is connected"
	case status.State == StateInForce:
		return ""
	case len(status.Behind) == 0:
		return status.Why
	}
	var names []string
	for i := range status.Behind {
		names = append(names, status.Behind[i].Target)
	}
	return fmt.Sprintf("revision %d is not in force yet at %s", status.Revision, strings.Join(names, ", "))
}
