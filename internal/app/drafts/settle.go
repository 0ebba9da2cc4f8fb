package drafts

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/internal/app/view"
	"bivium/internal/people"
	"bivium/internal/store"
)

// Conflict is a thing that a draft changes, and that has become another since its author saw
// it: what the draft does to it is left out until somebody decides (C3.4).
type Conflict struct {
	Thing view.Thing `json:"thing"`
	Why   string     `json:"why"`
	Was   string     `json:"was"`  // as it was when the draft changed it, JSON; "" if it was not there
	Now   string     `json:"now"`  // as it is applied now
	Mine  string     `json:"mine"` // as the draft has it; "" if it removes it
}

// settle brings a draft to the estate of now, if it is not there yet: what can be made of its
// steps is made there, and the rest is in conflict. The lock of the draft is held.
func (d *Desk) settle(ctx context.Context, x *draft) error {
	now := d.app.Now()
	switch {
	case x.on != nil && (x.on == now || x.row.State == store.DraftApplied):
		return nil
	case x.row.State == store.DraftApplied: // it is part of the estate
		d.stand(x, now, now, nil, nil)
		return nil
	}
	x.leave()
	operations, authors, err := x.operations()
	if err != nil {
		return err
	}
	from := x.snapshot
	if from == nil {
		from = now
	}
	if len(operations) == 0 {
		d.stand(x, now, now, nil, nil)
		return nil
	}
	seen := d.seen(ctx, now, operations, authors)
	r, conflicts, err := d.rework(ctx, now, operations, seen, authors)
	if err != nil {
		return err
	}
	if r == nil {
		d.stand(x, now, now, nil, conflicts)
		return nil
	}
	p := &view.Plan{Next: document.Shared(from.Estate, r.Estate), Former: r.Former()}
	from.WorkOut(p)
	after := from.After(p, d.version(), now.Known)
	after.Aside = now.Aside
	d.app.Number(after)
	d.app.Want(after)
	d.stand(x, now, after, r.Former(), conflicts)
	if x.row.Based != now.Revision && len(conflicts) == 0 {
		x.row.Based = now.Revision
		if err := d.store.PutDraft(context.WithoutCancel(ctx), &x.row, nil); err != nil {
			return err
		}
	}
	return d.look(ctx, x)
}

// stand sets where a draft stands.
func (d *Desk) stand(x *draft, on, snapshot *view.Snapshot, former map[estate.Ref]string, conflicts []Conflict) {
	x.on, x.snapshot, x.former, x.conflicts, x.judged = on, snapshot, former, conflicts, nil
	if x.shown = append(x.shown, shown{snapshot.Revision, snapshot.Estate, on.Revision}); len(x.shown) > mostShown {
		x.shown = slices.Clone(x.shown[1:])
	}
}

// operations returns the operations of the steps that stand, in their order, and for each the
// step that it is of.
func (x *draft) operations() (out []edit.Operation, of []*store.DraftStep, err error) {
	for i := range x.steps {
		s := &x.steps[i]
		if s.Undone {
			continue
		}
		one, err := edit.Read(s.Body)
		if err != nil {
			return nil, nil, fmt.Errorf("step %d of draft %s cannot be read: %w", s.Number, x.row.Name, err)
		}
		for _, o := range one.Operations {
			out, of = append(out, o), append(of, s)
		}
	}
	return out, of, nil
}

// seen returns what the authors of operations saw of things: as they were at the revision of
// the first step that touches each.
func (d *Desk) seen(ctx context.Context, now *view.Snapshot, operations []edit.Operation, of []*store.DraftStep) func(estate.Ref) (reflect.Value, bool) {
	first := map[estate.Ref]int64{}
	for i := range operations {
		ref := refOf(&operations[i])
		if _, known := first[ref]; !known {
			first[ref] = of[i].Seen
		}
	}
	return func(ref estate.Ref) (reflect.Value, bool) {
		revision, known := first[ref]
		if !known || revision == now.Revision {
			return edit.In(now.Estate)(ref)
		}
		return d.app.AsSeen(ctx, now, ref, revision)
	}
}

func refOf(o *edit.Operation) estate.Ref { return estate.Ref{Kind: o.Kind, Name: o.Subject()} }

// rework makes operations on a snapshot. Where one cannot be made, all of them on its thing
// are left out, and the thing is in conflict. It returns no result if none is left.
func (d *Desk) rework(ctx context.Context, now *view.Snapshot, operations []edit.Operation, seen func(estate.Ref) (reflect.Value, bool), of []*store.DraftStep) (*edit.Result, []Conflict, error) {
	var conflicts []Conflict
	for len(operations) > 0 {
		r, err := d.app.Rework(now, &edit.Edit{Operations: operations}, seen)
		if err == nil {
			return r, conflicts, nil
		}
		at, why := placeOf(err)
		if at < 0 {
			return nil, nil, err
		}
		ref := refOf(&operations[at])
		conflicts = append(conflicts, d.conflict(ctx, now, ref, why, operations, of))
		var kept []edit.Operation
		var keptOf []*store.DraftStep
		for i := range operations {
			if refOf(&operations[i]) != ref {
				kept, keptOf = append(kept, operations[i]), append(keptOf, of[i])
			}
		}
		operations, of = kept, keptOf
	}
	return nil, conflicts, nil
}

// placeOf returns which operation an error is about, and what it says; -1 where it is about
// none.
func placeOf(err error) (int, string) {
	var c *edit.Conflict
	var u *edit.InUse
	var p edit.Problems
	switch {
	case errors.As(err, &c):
		return c.At, c.Error()
	case errors.As(err, &u):
		return u.At, u.Error()
	case errors.As(err, &p) && len(p) > 0:
		return p[0].At, p[0].Message
	}
	return -1, ""
}

// conflict describes a conflict about a thing with all three versions of it.
func (d *Desk) conflict(ctx context.Context, now *view.Snapshot, ref estate.Ref, why string, operations []edit.Operation, of []*store.DraftStep) Conflict {
	out := Conflict{Thing: view.Thing{Kind: string(ref.Kind), Name: ref.Name}, Why: why}
	for i := range operations {
		o := &operations[i]
		if refOf(o) != ref {
			continue
		}
		if out.Was == "" && o.Base != edit.Absent {
			if thing, ok := d.app.AsSeen(ctx, now, ref, of[i].Seen); ok {
				out.Was = string(document.Body(thing))
			}
		}
		if out.Mine = ""; o.Op == edit.Put {
			if thing, err := o.Object.Thing(ref.Kind); err == nil {
				out.Mine = string(document.Body(thing))
			}
		}
	}
	if thing, ok := edit.In(now.Estate)(ref); ok {
		out.Now = string(document.Body(thing))
	}
	return out
}

// Snapshot returns what would be if a draft were applied now.
func (d *Desk) Snapshot(ctx context.Context, id int64) (*view.Snapshot, error) {
	x, err := d.find(id)
	if err != nil {
		return nil, err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if err := d.settle(ctx, x); err != nil {
		return nil, err
	}
	return x.snapshot, nil
}

// Resolve decides a conflict about a thing: the draft leaves it as it is applied, or changes it
// as it was written all the same. Who decides has a part in the draft from then on.
func (d *Desk) Resolve(ctx context.Context, by *people.Who, id int64, thing view.Thing, mine bool) error {
	x, err := d.find(id)
	if err != nil {
		return err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if err := errors.Join(x.closed(), d.settle(ctx, x)); err != nil {
		return err
	}
	if !slices.ContainsFunc(x.conflicts, func(c Conflict) bool { return c.Thing == thing }) {
		return &view.Problem{At: "name", Message: fmt.Sprintf("%s %s is not in conflict", thing.Kind, thing.Name), Fix: "look at the draft again"}
	}
	ref := estate.Ref{Kind: estate.Kind(thing.Kind), Name: thing.Name}
	now := d.app.Now()
	var steps []store.DraftStep
	rebased, settled := false, []string{by.Name}
	for _, s := range x.standing() {
		one, err := edit.Read(s.Body)
		if err != nil {
			return err
		}
		var kept []edit.Operation
		touched := false
		for _, o := range one.Operations {
			if refOf(&o) == ref {
				touched = true
				if !mine {
					continue
				}
				if !rebased {
					o.Base, rebased = edit.BaseOf(now.Estate, ref), true
				}
			}
			kept = append(kept, o)
		}
		if touched {
			s.Seen = now.Revision
			settled = append(settled, strings.Fields(s.Settled)...)
		}
		if len(kept) == 0 {
			continue // who settled conflicts of it stands with another step
		}
		if s.Body, err = json.Marshal(edit.Edit{Operations: kept}); err != nil {
			return err
		}
		s.Number = int64(len(steps) + 1)
		steps = append(steps, s)
	}
	if len(steps) > 0 {
		settled = append(settled, strings.Fields(steps[0].Settled)...)
		slices.Sort(settled)
		steps[0].Settled = strings.Join(slices.Compact(settled), " ")
	} else {
		steps = []store.DraftStep{}
	}
	row := x.row
	row.Changed = d.clock()
	reopen(&row)
	if err := d.store.PutDraft(context.WithoutCancel(ctx), &row, steps); err != nil {
		return err
	}
	x.row, x.steps, x.on = row, steps, nil
	d.Events.tell(Event{Kind: EventDraft, Draft: id})
	taken := "as applied"
	if mine {
		taken = "as the draft has it"
	}
	return d.people.Audit().Add(ctx, by, "conflict decided", row.Name, fmt.Sprintf("%s %s: %s", thing.Kind, thing.Name, taken))
}

// writers returns the names of those who wrote what stands in a draft, or settled a conflict
// of it.
func (x *draft) writers() map[string]bool {
	out := map[string]bool{}
	for i := range x.steps {
		if s := &x.steps[i]; !s.Undone {
			out[s.Author] = true
			for name := range strings.FieldsSeq(s.Settled) {
				out[name] = true
			}
		}
	}
	return out
}
