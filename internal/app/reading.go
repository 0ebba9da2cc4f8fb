package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"bivium/core/estate"
	"bivium/core/inventory"
	"bivium/core/limits"
	"bivium/internal/app/consequence"
	"bivium/internal/app/view"
	"bivium/internal/drivers"
	"bivium/internal/store"
	"bivium/internal/wording"
)

// ReadingView is a reading of an account: how far it is, or what it did.
type ReadingView struct {
	ID        int64     `json:"id"`
	State     string    `json:"state"` // running, done, partial or cut-off
	Started   time.Time `json:"started"`
	Ended     time.Time `json:"ended"` // the zero time while it runs
	Networks  int       `json:"networks"`
	Workloads int       `json:"workloads"`
	Total     int       `json:"total"`  // of both, as far as is known by now
	Step      string    `json:"step"`   // what it does now: read, or take in
	GoesOn    bool      `json:"goesOn"` // it can go on where it ended
	Report    Report    `json:"report"`
}

// Report is what a reading did to the estate.
type Report struct {
	Read    [2]int                   `json:"read"` // networks and workloads
	Why     string                   `json:"why"`  // it ended early; "" if it did not
	Fix     string                   `json:"fix"`
	Notes   []string                 `json:"notes"`
	Counts  []ChangeCount            `json:"counts"`
	Changes []view.Change            `json:"changes"` // the first of them
	Covered []Covered                `json:"covered"`
	Flows   []consequence.FlowEffect `json:"flows"` // that changed outcome
	More    int                      `json:"more"`  // flows that are not shown

	Expectations []consequence.Expectation `json:"expectations"` // that break or hold again
}

// ChangeCount is how many changes there are of a sort.
type ChangeCount struct {
	Kind  inventory.Kind `json:"kind"`
	What  inventory.What `json:"what"`
	Count int            `json:"count"`
}

// Covered is workloads that came to a group, and the rules that cover them now.
type Covered struct {
	Group     string       `json:"group"`
	Workloads []string     `json:"workloads"` // the first of them
	Count     int          `json:"count"`
	Rules     []view.Thing `json:"rules"`
}

// What a report tells at most of each.
const (
	maxChanges = 500
)

// readings are those that run, by account.
type readings struct {
	mu   sync.Mutex
	runs map[string]*run
}

type run struct {
	mu     sync.Mutex
	view   ReadingView
	cancel context.CancelCauseFunc
	done   chan struct{}
}

var errStopped = errors.New("stopped")

func (r *run) now() *ReadingView {
	r.mu.Lock()
	defer r.mu.Unlock()
	v := r.view
	return &v
}

// Read begins to read an account, or goes on with a reading that ended early,
// and returns at once. One account is read once at a time.
func (a *App) Read(ctx context.Context, account, actor string, goOn bool) (*ReadingView, error) {
	provider, d, err := a.driver(ctx, account)
	if err != nil {
		return nil, err
	}
	a.reading.mu.Lock()
	defer a.reading.mu.Unlock()
	if r, runs := a.reading.runs[account]; runs {
		return r.now(), nil
	}
	reading := &store.Reading{Account: account, Actor: actor, Started: a.Clock()}
	r := &run{done: make(chan struct{})}
	if goOn {
		last, err := a.Store.LastReading(ctx, account)
		if err != nil || last.Cursor == "" {
			return nil, &view.Problem{At: "account", Message: "there is no sync of " + account + " that could be resumed", Fix: "start a new sync"}
		}
		last.State, last.Actor = store.Running, actor
		reading = last
		networks, workloads, _, err := a.Store.Pages(ctx, last.ID)
		if err != nil {
			return nil, err
		}
		r.view.Networks, r.view.Workloads = len(networks), len(workloads)
	} else if err := a.Store.StartReading(ctx, reading); err != nil {
		return nil, err
	}
	r.view.ID, r.view.State, r.view.Started, r.view.Total, r.view.Step = reading.ID, store.Running, reading.Started, reading.Total, "read"
	r.view.Report = emptyReport()
	background, cancel := context.WithCancelCause(context.WithoutCancel(ctx))
	r.cancel = cancel
	if a.reading.runs == nil {
		a.reading.runs = map[string]*run{}
	}
	a.reading.runs[account] = r
	go func() {
		defer close(r.done)
		a.run(background, r, provider, reading, d)
		a.reading.mu.Lock()
		delete(a.reading.runs, account)
		a.reading.mu.Unlock()
	}()
	return r.now(), nil
}

// run reads page by page, and takes in what was read, however it ended.
func (a *App) run(ctx context.Context, r *run, provider string, reading *store.Reading, d drivers.Driver) {
	err := a.guarded("syncing "+reading.Account, func() error { return a.pages(ctx, r, reading, d) })
	if cause := context.Cause(ctx); cause != nil {
		err = cause
	}
	ctx = context.WithoutCancel(ctx) // what was read is kept
	r.mu.Lock()
	r.view.Step = "take in"
	r.mu.Unlock()
	if err := a.guarded("applying the sync of "+reading.Account, func() error { return a.takeIn(ctx, provider, reading, err) }); err != nil {
		a.Log.Error("a sync could not be applied", "account", reading.Account, "error", err)
		report := emptyReport()
		report.Why = "the result of the sync could not be applied: " + err.Error()
		reading.State, reading.Ended, reading.Report = store.Partial, a.Clock(), mustJSON(report)
		if err := a.Store.EndReading(ctx, reading, nil); err != nil {
			a.Log.Error("a sync could not be ended", "account", reading.Account, "error", err)
		}
	}
}

func (a *App) pages(ctx context.Context, r *run, reading *store.Reading, d drivers.Driver) error {
	followed, size := map[string]bool{}, 0
	for begun := reading.Cursor == ""; begun || reading.Cursor != ""; begun = false {
		if followed[reading.Cursor] {
			return &drivers.AnswerError{Asked: "the inventory", Err: errors.New("its pages repeat")}
		}
		followed[reading.Cursor] = true
		page, err := d.Page(ctx, reading.Cursor)
		if err != nil {
			return err
		}
		now := r.now()
		things := now.Networks + now.Workloads + len(page.Networks) + len(page.Workloads)
		if things > limits.ProviderThings || len(followed) > limits.ProviderPages || size > limits.ProviderBytes {
			return &drivers.AnswerError{Asked: "the inventory", Err: fmt.Errorf("it has more than %d networks and workloads, %d pages or %d MiB", limits.ProviderThings, limits.ProviderPages, limits.ProviderBytes>>20)}
		}
		page.Notes = page.Notes[:max(0, min(len(page.Notes), limits.ProviderNotes-len(now.Report.Notes)))]
		reading.Cursor, reading.Total = page.Next, page.Total
		kept, err := a.Store.KeepPage(ctx, reading, &inventory.Reading{Networks: page.Networks, Workloads: page.Workloads}, page.Notes)
		if err != nil {
			return err
		}
		size += kept
		r.mu.Lock()
		r.view.Networks += len(page.Networks)
		r.view.Workloads += len(page.Workloads)
		r.view.Total = max(page.Total, r.view.Networks+r.view.Workloads)
		r.view.Report.Notes = append(r.view.Report.Notes, page.Notes...)
		r.mu.Unlock()
	}
	return nil
}

// takeIn takes a reading into the estate; why says why it ended early, nil if it
// did not.
func (a *App) takeIn(ctx context.Context, provider string, reading *store.Reading, why error) error {
	networks, workloads, notes, err := a.Store.Pages(ctx, reading.ID)
	if err != nil {
		return err
	}
	report := emptyReport()
	report.Read = [2]int{len(networks), len(workloads)}
	report.Notes = append(report.Notes, notes...)
	reading.State = store.Done
	if why != nil {
		reading.State = store.Partial
		report.Why, report.Fix = whyEnded(why)
	}
	var taken inventory.Taken
	s := &step{what: "sync of " + reading.Account, actor: reading.Actor, based: current, reading: reading}
	managed, err := a.manages(ctx, reading.Account)
	if err != nil {
		return err
	}
	s.plan = leadsTo(func(now *view.Snapshot) (*estate.Estate, error) {
		taken = inventory.Take(now.Estate, now.Known, &inventory.Reading{
			Account: reading.Account, Provider: provider, Networks: networks, Workloads: workloads, Partial: why != nil,
			Managed: managed && !now.Estate.Observes(reading.Account),
		}, inventory.NewTable(now.Estate.MappingRules()))
		if !taken.Altered {
			return now.Estate, nil
		}
		s.known = taken.Known
		return taken.Estate, nil
	})
	s.then = func(before, after *view.Snapshot, p *view.Plan) error {
		report.tell(before, after, taken.Changes)
		e := consequence.EffectOf(before, after, &p.Changed, consequence.MaxFlows)
		report.Flows, report.More, report.Expectations = e.Flows, e.More, e.Expectations
		reading.Ended, reading.Report = a.Clock(), mustJSON(report)
		return nil
	}
	s.idle = func(now *view.Snapshot) (*view.Snapshot, error) {
		report.tell(now, now, taken.Changes)
		reading.Ended, reading.Report, reading.Revision = a.Clock(), mustJSON(report), now.Revision
		same := *now
		same.Known = taken.Known
		return &same, a.Store.EndReading(ctx, reading, taken.Known)
	}
	return a.advance(ctx, s)
}

// whyEnded tells a user why a reading ended early, and what to do.
func whyEnded(err error) (why, fix string) {
	switch {
	case errors.Is(err, errStopped):
		return "stopped", "resume it, or start a new sync"
	case errors.Is(err, drivers.ErrCredential):
		return "the provider no longer accepts the credential", "enter a new credential, and resume"
	case errors.Is(err, drivers.ErrUnreachable):
		return "the provider did not answer after several attempts: " + err.Error(), "resume it when the provider answers again"
	}
	return err.Error(), "resume it, or start a new sync"
}

// tell puts what a reading changed into the report.
func (r *Report) tell(before, after *view.Snapshot, changes []inventory.Change) {
	for _, kind := range []inventory.Kind{inventory.NetworkKind, inventory.WorkloadKind} {
		for _, what := range []inventory.What{inventory.New, inventory.Changed, inventory.Gone, inventory.Kept, inventory.LeftOut} {
			if n := inventory.Count(changes, kind, what); n > 0 {
				r.Counts = append(r.Counts, ChangeCount{kind, what, n})
			}
		}
	}
	for i := range changes[:min(len(changes), maxChanges)] {
		r.Changes = append(r.Changes, view.Change{Change: changes[i], How: wording.ReadChange(&changes[i])})
	}
	names := after.Judge.GroupNames()
	came := make([]*Covered, len(names))
	for _, c := range changes {
		if c.Kind != inventory.WorkloadKind || c.What != inventory.New && c.What != inventory.Changed {
			continue
		}
		had := map[string]bool{}
		if i, ok := before.Index.Workload[c.Name]; ok {
			for _, g := range before.GroupsOf(i) {
				had[before.Judge.GroupNames()[g]] = true
			}
		}
		i, ok := after.Index.Workload[c.Name]
		if !ok {
			continue
		}
		for _, g := range after.GroupsOf(i) {
			if had[names[g]] {
				continue
			}
			if came[g] == nil {
				came[g] = &Covered{Group: names[g], Workloads: []string{}, Rules: after.RulesOn(names[g])}
			}
			came[g].Count++
			if len(came[g].Workloads) < view.MaxNamed {
				came[g].Workloads = append(came[g].Workloads, c.Name)
			}
		}
	}
	for _, c := range came {
		if c != nil {
			r.Covered = append(r.Covered, *c)
		}
	}
}

func emptyReport() Report {
	return Report{Notes: []string{}, Counts: []ChangeCount{}, Changes: []view.Change{}, Covered: []Covered{}, Flows: []consequence.FlowEffect{}, Expectations: []consequence.Expectation{}}
}

func mustJSON(v any) []byte {
	b, err := json.Marshal(v)
	if err != nil {
		panic(fmt.Sprintf("app: %T as JSON: %v", v, err))
	}
	return b
}

// StopReading stops the reading of an account, if one runs; what it read is kept.
func (a *App) StopReading(account string) {
	a.reading.mu.Lock()
	r := a.reading.runs[account]
	a.reading.mu.Unlock()
	if r != nil {
		r.cancel(errStopped)
	}
}

// Close stops all readings where they are; they are cut off, and can go on. Hubs
// listen no more.
func (a *App) Close() {
	if l := a.learner.Swap(nil); l != nil {
		l.close()
	}
	a.reading.mu.Lock()
	var runs []*run
	for _, r := range a.reading.runs {
		runs = append(runs, r)
	}
	a.reading.mu.Unlock()
	for _, r := range runs {
		r.cancel(errStopped)
		<-r.done
	}
}

func (a *App) lastReading(ctx context.Context, account string) (*ReadingView, error) {
	a.reading.mu.Lock()
	r := a.reading.runs[account]
	a.reading.mu.Unlock()
	if r != nil {
		return r.now(), nil
	}
	last, err := a.Store.LastReading(ctx, account)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil //nolint:nilnil // an account that was never read
	}
	if err != nil {
		return nil, err
	}
	v := &ReadingView{ID: last.ID, State: last.State, Started: last.Started, Ended: last.Ended, Total: last.Total, GoesOn: last.Cursor != "" && last.State != store.Done, Report: emptyReport()}
	if err := json.Unmarshal(last.Report, &v.Report); err != nil {
		return nil, err
	}
	v.Networks, v.Workloads = v.Report.Read[0], v.Report.Read[1]
	if last.State == store.CutOff {
		v.Report.Why, v.Report.Fix = "the server stopped while it ran", "resume it, or start a new sync"
	}
	return v, nil
}
