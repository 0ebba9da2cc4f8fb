package app

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/inventory"
	"bivium/core/limits"
	"bivium/internal/app/view"
	"bivium/internal/store"
)

// current stands for the revision that is current, for steps that are based on none.
const current = -1

// step is one step of the estate: an edit of a person, or what accounts or routers bring.
// Every change of the estate is one, and goes through App.advance.
type step struct {
	what  string // as it is stored: store.Edit, or what else brings it
	actor string
	based int64         // the revision that it was made for, or current
	key   *view.PlanKey // of the plan that it may have been tried as; nil for none
	edit  []byte        // as it was asked for, as JSON; nil where it was not written as one
	// plan returns the estate after the step, worked out or not; that of the snapshot itself
	// if there is nothing to do. See leadsTo.
	plan func(now *view.Snapshot) (*view.Plan, error)
	// then, if given, works out what is told of the step. Nothing is stored before it is done.
	then func(before, after *view.Snapshot, p *view.Plan) error
	// idle, if given, is done instead where there is nothing to do, and returns what is
	// shown from then on.
	idle func(now *view.Snapshot) (*view.Snapshot, error)
	// allow is asked in the place of the app's own Allow, where it is given.
	allow Allowance
	held  func() // what is to be done once the step is stored, for what was kept back of it
	note  []byte // what is known of the step beside what it changed, JSON; nil for nothing

	known    []inventory.Known // of all accounts; nil where it does not change
	reading  *store.Reading
	repaired int64 // see store.Revision
}

// leadsTo returns the plan of a step of which only the estate after it is known.
func leadsTo(change func(now *view.Snapshot) (*estate.Estate, error)) func(*view.Snapshot) (*view.Plan, error) {
	return func(now *view.Snapshot) (*view.Plan, error) {
		next, err := change(now)
		return &view.Plan{Next: next}, err
	}
}

// advance takes a step. It is worked out and checked before it is stored, and is shown once
// it is: memory and database move together, or not at all. A step that cannot be kept, for
// the document could not hold it, gives Problems; one in which something panics is logged
// with what led to it, and leaves everything as it was.
func (a *App) advance(ctx context.Context, s *step) error {
	defer a.Urgent()()
	a.edit.Lock()
	defer a.edit.Unlock()
	if err := ctx.Err(); err != nil { // they have gone while others were at it
		return err
	}
	now := a.Now()
	if s.based != current && s.based != now.Revision {
		return &store.StaleError{Based: s.based, Current: now.Revision}
	}
	var after *view.Snapshot
	var r *store.Revision
	s.held = nil
	err := a.guarded(s.what+" by "+s.actor, func() (err error) {
		after, r, err = a.prepare(ctx, now, s)
		return err
	})
	switch {
	case err != nil:
		return err
	case after == now && s.idle != nil:
		if after, err = s.idle(now); err == nil {
			a.show(after)
		}
		return err
	case after == now:
		return nil
	}
	a.moves.Lock()
	defer a.moves.Unlock()
	if err := a.store(ctx, r); err != nil {
		return err
	}
	a.show(after)
	if a.Changed != nil {
		a.Changed()
	}
	if s.held != nil {
		go s.held() // it takes locks of its own
	}
	return nil
}

// prepare works a step out, unless whoever asked for it has gone.
func (a *App) prepare(ctx context.Context, now *view.Snapshot, s *step) (*view.Snapshot, *store.Revision, error) {
	p := now.Plans.Find(s.key)
	if p == nil {
		var err error
		if p, err = s.plan(now); err != nil {
			return nil, nil, err
		}
	}
	if p.Next != now.Estate {
		estate.NameConnections(p.Next)
	}
	next := p.Next
	known := now.Known
	if s.known == nil && s.what == store.Edit {
		s.known = knownAfter(now, p)
	}
	if s.known != nil {
		known = s.known
	}
	if next == now.Estate && s.known == nil && s.repaired == 0 {
		return now, nil, nil
	}
	changes := p.Changes(now.Estate)
	if refused := document.Admit(changes, next); len(refused) > 0 {
		return nil, nil, view.ProblemsOf(refused)
	}
	if err := ctx.Err(); err != nil {
		return nil, nil, err
	}
	if p.Analysis == nil {
		now.WorkOut(p)
	}
	after := without(now, s.repaired).After(p, now.Revision+1, known)
	if a.Hold != nil && s.what != store.Edit {
		if rest, then := a.Hold(now, after, p, s.what); rest != nil {
			s.held = then
			p = &view.Plan{Next: document.Shared(now.Estate, rest), Former: p.Former}
			changes = p.Changes(now.Estate)
			now.WorkOut(p)
			after = without(now, s.repaired).After(p, now.Revision+1, known)
		}
	}
	after.Matrix.Complete()
	if err := ctx.Err(); err != nil {
		return nil, nil, err
	}
	allow := s.allow
	if allow == nil && s.what == store.Edit {
		allow = a.Allow
	}
	if allow != nil {
		if err := allow(now, after, p); err != nil {
			return nil, nil, err
		}
	}
	if s.then != nil {
		if err := s.then(now, after, p); err != nil {
			return nil, nil, err
		}
	}
	return after, &store.Revision{
		What: s.what, Name: next.Name, Description: next.Description, Edit: s.edit, Note: s.note, Changes: changes, Based: now.Revision, Actor: s.actor, At: a.Clock(),
		Known: s.known, Reading: s.reading, Repaired: s.repaired,
	}, nil
}

// store stores a revision, whether the one who asked for it still waits or not. If that
// fails in a way that leaves open whether it was stored, the database is asked.
func (a *App) store(ctx context.Context, r *store.Revision) error {
	ctx = context.WithoutCancel(ctx)
	_, err := a.Store.Change(ctx, r)
	var stale *store.StaleError
	if err == nil || errors.As(err, &stale) {
		return err
	}
	if is, again := a.Store.Revision(ctx); again == nil && is == r.Based+1 { // nobody else writes
		a.Log.Warn("a revision was stored although the database reported an error", "revision", is, "error", err)
		return nil
	}
	return err
}

// Panicked is returned for a request or job in which something panicked. It was logged.
type Panicked struct {
	Doing string
	Value any
}

// Error says what was being done.
func (p *Panicked) Error() string {
	return fmt.Sprintf("%s failed because of a defect in Bivium. Nothing was changed; the log has details", p.Doing)
}

// guarded runs f, and turns a panic in it, or in a worker that it waits for, into an error
// that is logged with what led to it.
func (a *App) guarded(doing string, f func() error) (err error) {
	defer func() {
		value := recover()
		if most := limits.Of(value); most != nil {
			err = &view.Problem{At: "", Message: most.Error(), Fix: most.Fix}
		} else if value != nil {
			a.Log.Error("panic", "doing", doing, "error", fmt.Sprint(value), "stack", string(debug.Stack()))
			err = &Panicked{doing, value}
		}
	}()
	return f()
}
