package app

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/core/inventory"
	"bivium/internal/app/consequence"
	"bivium/internal/app/rules"
	"bivium/internal/app/view"
	"bivium/internal/store"
)

// Edit is an edit with the revision that its author saw (C1.3).
type Edit struct {
	edit.Edit
	Seen   int64
	Strict bool // the estate must be at Seen still: its operations were worked out there
}

// key returns the key of the plan of the edit.
func (x *Edit) key() *view.PlanKey {
	return view.KeyOfPlan(fmt.Sprint("edit of ", x.Seen), mustJSON(x.Operations))
}

// on applies the edit to the estate of a snapshot. What it cannot be is Problems at the
// fields of its operations, a Conflict or an InUse.
func (a *App) on(ctx context.Context, s *view.Snapshot, x *Edit) (*edit.Result, error) {
	seen := edit.In(s.Estate)
	if x.Seen != s.Revision && x.Seen > 0 && s.Revision > 0 {
		seen = func(ref estate.Ref) (reflect.Value, bool) { return a.asSeen(ctx, s, ref, x.Seen) }
	}
	r, err := a.Rework(s, &x.Edit, seen)
	return r, ProblemsOf(err)
}

// ProblemsOf returns what is wrong with an edit as Problems at the fields of its operations;
// other errors as they are.
func ProblemsOf(err error) error {
	var problems edit.Problems
	if !errors.As(err, &problems) {
		return err
	}
	out := make(view.Problems, len(problems))
	for i, p := range problems {
		out[i] = view.Problem{At: strings.TrimSuffix(fmt.Sprintf("operations[%d].%s", p.At, p.Path), "."), Message: p.Message, Fix: p.Fix, Character: p.Character}
	}
	return out
}

// Rework applies an edit to the estate of a snapshot; seen returns a thing as the author of
// its operation saw it, where that was another revision. See on.
func (a *App) Rework(s *view.Snapshot, x *edit.Edit, seen func(estate.Ref) (reflect.Value, bool)) (*edit.Result, error) {
	r, err := edit.Apply(s.Estate, x, seen)
	if err != nil {
		return nil, err
	}
	r.Estate = estate.AsOf(remapped(s, r), s.Estate.Day) // what was put may have run out
	return r, nil
}

// AsSeen returns a thing as it was at a revision; false if it was not there.
func (a *App) AsSeen(ctx context.Context, s *view.Snapshot, ref estate.Ref, revision int64) (reflect.Value, bool) {
	return a.asSeen(ctx, s, ref, revision)
}

// Revision is a step of the estate that was worked out before.
type Revision struct {
	Based  int64 // the revision that it comes after
	Plan   *view.Plan
	Edit   []byte // as JSON
	Note   []byte // what is known of it beside what it changed, as JSON
	Actor  string
	Allow  Allowance
	Strict func(now *view.Snapshot) bool // whether it was worked out on a snapshot
}

// Take takes a step that was worked out on the snapshot shown; StaleError where another is.
func (a *App) Take(ctx context.Context, r *Revision) (*consequence.Consequence, error) {
	return a.told(ctx, &step{what: store.Edit, actor: r.Actor, based: r.Based, edit: r.Edit, note: r.Note, allow: r.Allow, plan: func(now *view.Snapshot) (*view.Plan, error) {
		if !r.Strict(now) {
			return nil, &store.StaleError{Based: r.Based, Current: now.Revision}
		}
		return r.Plan, nil
	}})
}

// asSeen returns a thing as it was at a revision.
func (a *App) asSeen(ctx context.Context, s *view.Snapshot, ref estate.Ref, revision int64) (reflect.Value, bool) {
	body, err := a.Store.ObjectAt(ctx, document.ListOf(ref.Kind), ref.Name, revision)
	if errors.Is(err, store.ErrNotFound) { // it has not been changed since
		return edit.In(s.Estate)(ref)
	}
	if err != nil || body == nil {
		return reflect.Value{}, false
	}
	value, err := document.ValueOf(body)
	if err != nil {
		return reflect.Value{}, false
	}
	thing, err := value.Thing(ref.Kind)
	return thing, err == nil
}

// renameKnown returns what is known of accounts with the names that things have now; nil
// where nothing that accounts have was renamed.
func renameKnown(known []inventory.Known, former map[estate.Ref]string) []inventory.Known {
	now := map[[2]string]string{}
	for ref, was := range former {
		switch ref.Kind {
		case estate.KindNetwork:
			now[[2]string{string(inventory.NetworkKind), was}] = ref.Name
		case estate.KindWorkload:
			now[[2]string{string(inventory.WorkloadKind), was}] = ref.Name
		}
	}
	if len(now) == 0 {
		return nil
	}
	out := slices.Clone(known)
	for i := range out {
		if name, renamed := now[[2]string{string(out[i].Kind), out[i].Name}]; renamed {
			out[i].Name = name
		}
	}
	return out
}

// Make makes an edit of the estate as it is by now, and returns what changed. An edit that
// would bring a fault is refused. Operations without a base need the estate to be still at
// the revision that their author saw.
func (a *App) Make(ctx context.Context, x *Edit, actor string) (*consequence.Consequence, error) {
	based := int64(current)
	if x.Strict || slices.ContainsFunc(x.Operations, func(o edit.Operation) bool { return o.Base == "" }) {
		based = x.Seen
	}
	return a.told(ctx, &step{what: store.Edit, actor: actor, based: based, key: x.key(), edit: mustJSON(x.Edit), plan: func(now *view.Snapshot) (*view.Plan, error) {
		r, err := a.on(ctx, now, x)
		if err != nil {
			return nil, err
		}
		p := &view.Plan{Next: r.Estate, Former: r.Former()}
		if refused := consequence.RefusedBy(now, p, r.Put); len(refused) > 0 {
			var problems view.Problems
			for _, r := range refused {
				problems = append(problems, view.Problem{At: r.At, Message: r.Message, Fix: r.Fix})
			}
			return nil, problems
		}
		return p, nil
	}})
}

// Try returns what an edit would change of a snapshot.
func (a *App) Try(ctx context.Context, s *view.Snapshot, x *Edit) (*consequence.Consequence, error) {
	nothing := consequence.Nothing(s.Revision)
	r, err := a.on(ctx, s, x)
	var used *edit.InUse
	switch {
	case errors.As(err, &used):
		nothing.InUse = consequence.UseOf(used)
		return nothing, nil
	case err != nil:
		return nil, err
	}
	p, refused, err := consequence.WorkOut(s, x.key(), r)
	if err != nil {
		return nil, err
	}
	if len(refused) > 0 {
		nothing.Refused = refused
		return nothing, nil
	}
	after := s.Ahead(p)
	out := consequence.Of(s, after, p)
	if put := r.Put[len(r.Put)-1]; put.Name != "" {
		out.About = rules.AboutThing(after, put)
	}
	return out, nil
}

// told takes a step, and returns what it changed.
func (a *App) told(ctx context.Context, s *step) (*consequence.Consequence, error) {
	var out *consequence.Consequence
	s.then = func(before, after *view.Snapshot, p *view.Plan) error {
		out = consequence.Of(before, after, p)
		return nil
	}
	if err := a.advance(ctx, s); err != nil {
		return nil, err
	}
	if out == nil { // there was nothing to do
		revision := a.Now().Revision
		out = consequence.Nothing(revision)
		out.Effect = consequence.NoEffect(revision)
	}
	return out, nil
}

// edited is told for what has an effect on flows alone.
func (a *App) edited(ctx context.Context, s *step) (*consequence.Effect, error) {
	out, err := a.told(ctx, s)
	if err != nil {
		return nil, err
	}
	return out.Effect, nil
}
