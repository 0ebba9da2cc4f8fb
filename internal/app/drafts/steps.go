package drafts

import (
	"context"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/core/inventory"
	"bivium/internal/app"
	"bivium/internal/app/consequence"
	"bivium/internal/app/rules"
	"bivium/internal/app/view"
	"bivium/internal/people"
	"bivium/internal/store"
)

// Add adds a step to a draft, and returns what the step changes of it. A step that brings a
// fault is kept, too: it cannot be applied. Operations without a base need the draft to be
// still as their author saw it.
func (d *Desk) Add(ctx context.Context, by *people.Who, id int64, x *app.Edit) (*consequence.Consequence, error) {
	draft, err := d.find(id)
	if err != nil {
		return nil, err
	}
	draft.mu.Lock()
	defer draft.mu.Unlock()
	if err := draft.closed(); err != nil {
		return nil, err
	}
	if err := d.settle(ctx, draft); err != nil {
		return nil, err
	}
	before := draft.snapshot
	if (x.Strict || slices.ContainsFunc(x.Operations, func(o edit.Operation) bool { return o.Base == "" })) && x.Seen != before.Revision {
		return nil, &store.StaleError{Based: x.Seen, Current: before.Revision}
	}
	based(before.Estate, &x.Edit)
	seen, revision := d.seenBy(ctx, draft, x.Seen)
	r, err := d.app.Rework(before, &x.Edit, seen)
	if err != nil {
		return nil, app.ProblemsOf(err)
	}
	body, err := json.Marshal(x.Edit)
	if err != nil {
		return nil, err
	}
	p := &view.Plan{Next: r.Estate, Former: r.Former()}
	before.WorkOut(p)
	after := before.After(p, d.version(), before.Known)
	d.app.Number(after)

	standing := draft.standing() // another step comes in the place of those that were undone
	step := store.DraftStep{Number: int64(len(standing) + 1), Author: by.Name, At: d.clock(), Seen: revision, Body: body}
	row := draft.row
	row.Changed, row.Based = step.At, draft.on.Revision
	reopen(&row)
	if err := d.store.AddDraftStep(context.WithoutCancel(ctx), &row, &step); err != nil {
		return nil, err
	}
	draft.row, draft.steps = row, append(standing, step)
	d.app.Want(after)
	d.stand(draft, draft.on, after, chained(draft.former, r.Former()), draft.conflicts)
	if err := d.look(ctx, draft); err != nil {
		return nil, err
	}
	out := consequence.Of(before, after, p)
	if put := r.Put[len(r.Put)-1]; put.Name != "" {
		out.About = rules.AboutThing(after, put)
	}
	out.Refused = consequence.Faults(before, after)
	d.Events.tell(Event{Kind: EventDraft, Draft: id})
	return out, d.people.Audit().Add(ctx, by, "draft changed", draft.row.Name, fmt.Sprintf("step %d: %s", step.Number, Words(&x.Edit)))
}

// reopen takes a draft in review, or approved, that changes back to being in review: what was
// approved is looked at again (C2.4).
func reopen(row *store.Draft) {
	if row.State == store.DraftApproved {
		row.State = store.DraftReview
	}
}

// based gives operations without a base that of what is there, which their author saw; one
// on what another of the edit leaves needs none.
func based(e *estate.Estate, x *edit.Edit) {
	touched := map[estate.Ref]bool{}
	for i := range x.Operations {
		o := &x.Operations[i]
		ref := estate.Ref{Kind: o.Kind, Name: o.Subject()}
		if o.Base == "" && !touched[ref] {
			o.Base = edit.BaseOf(e, ref)
		}
		if touched[ref] = true; o.Op == edit.Rename {
			return // it may have changed anything
		}
	}
}

// chained returns former names through two edits, one after the other.
func chained(first, second map[estate.Ref]string) map[estate.Ref]string {
	out := map[estate.Ref]string{}
	for ref, was := range first {
		out[ref] = was
	}
	for ref, was := range second {
		before := estate.Ref{Kind: ref.Kind, Name: was}
		if earlier, again := out[before]; again {
			delete(out, before)
			was = earlier
		}
		if out[ref] = was; was == ref.Name {
			delete(out, ref)
		}
	}
	return out
}

// standing returns the steps that are not undone, in a list of their own.
func (x *draft) standing() []store.DraftStep {
	return slices.Clip(slices.DeleteFunc(slices.Clone(x.steps), func(s store.DraftStep) bool { return s.Undone }))
}

// shown is a snapshot of a draft that somebody may have seen.
type shown struct {
	version  int64
	estate   *estate.Estate
	revision int64 // on which it stood
}

// mostShown is how many snapshots of a draft are remembered.
const mostShown = 16

// seenBy returns what the author of an edit saw who saw a version of a draft or, before there
// was one, a revision; and the revision of the estate that this stood on. Of a version that is
// not remembered, it is what the draft is now.
func (d *Desk) seenBy(ctx context.Context, x *draft, seen int64) (func(estate.Ref) (reflect.Value, bool), int64) {
	if seen > 0 && seen <= x.on.Revision {
		return func(ref estate.Ref) (reflect.Value, bool) { return d.app.AsSeen(ctx, x.on, ref, seen) }, seen
	}
	for _, s := range x.shown {
		if s.version == seen {
			return edit.In(s.estate), s.revision
		}
	}
	return edit.In(x.snapshot.Estate), x.on.Revision
}

// Words names what an edit does, shortly.
func Words(x *edit.Edit) string {
	var out []string
	for i := range x.Operations {
		o := &x.Operations[i]
		if i == 5 && len(x.Operations) > 6 {
			out = append(out, fmt.Sprintf("%d more", len(x.Operations)-i))
			break
		}
		out = append(out, fmt.Sprintf("%s %s %s", o.Op, o.Kind, o.Subject()))
	}
	return strings.Join(out, ", ")
}

// Turn undoes the last step of a draft that stands, or does the first again that does not.
func (d *Desk) Turn(ctx context.Context, by *people.Who, id int64, undo bool) error {
	draft, err := d.find(id)
	if err != nil {
		return err
	}
	draft.mu.Lock()
	defer draft.mu.Unlock()
	if err := draft.closed(); err != nil {
		return err
	}
	at, what, none := len(draft.standing()), "step done again", "no step was undone"
	if undo {
		at, what, none = at-1, "step undone", "the draft has no steps"
	}
	if at < 0 || at >= len(draft.steps) {
		return &view.Problem{At: "draft", Message: none, Fix: "there is nothing to do"}
	}
	step, row := draft.steps[at], draft.row
	step.Undone, row.Changed = undo, d.clock()
	reopen(&row)
	if err := d.store.TurnDraftStep(context.WithoutCancel(ctx), &row, &step); err != nil {
		return err
	}
	draft.row, draft.steps = row, slices.Clone(draft.steps)
	draft.steps[at] = step
	draft.on = nil // so that it is worked out anew
	d.Events.tell(Event{Kind: EventDraft, Draft: id})
	return d.people.Audit().Add(ctx, by, what, draft.row.Name, fmt.Sprintf("step %d", step.Number))
}

// Last returns the last step of a draft that stands, as what can be undone.
func (d *Desk) Last(id int64) (*app.LastStep, error) {
	x, err := d.find(id)
	if err != nil {
		return nil, err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	out := &app.LastStep{Revision: x.row.Based, Changes: []inventory.Change{}}
	if x.snapshot != nil {
		out.Revision = x.snapshot.Revision
	}
	if err := x.closed(); err != nil {
		out.Why = err.Error()
		return out, nil
	}
	for i := len(x.steps) - 1; i >= 0; i-- {
		s := &x.steps[i]
		if s.Undone {
			continue
		}
		one, err := edit.Read(s.Body)
		if err != nil {
			return nil, err
		}
		out.Actor, out.At = d.people.CalledOf(s.Author), &s.At
		for k := range one.Operations {
			o := &one.Operations[k]
			what := inventory.Changed
			switch {
			case o.Op == edit.Delete:
				what = inventory.Gone
			case o.Base == edit.Absent:
				what = inventory.New
			}
			out.Changes = append(out.Changes, inventory.Change{Kind: inventory.Kind(document.ListOf(o.Kind)), Name: o.Subject(), What: what})
		}
		return out, nil
	}
	out.Why = "the draft has no steps"
	return out, nil
}
