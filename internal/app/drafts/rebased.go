package drafts

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/matrix"
	"bivium/internal/app/consequence"
	"bivium/internal/app/view"
)

// Rebased says what a draft does otherwise than before, although nothing was added to it: the
// applied estate has changed below it (C3.4).
type Rebased struct {
	From   int64    `json:"from"` // the revision on which it stood when it was last looked at
	To     int64    `json:"to"`
	New    []string `json:"new"`    // sets of flows that it changes now, in words
	Gone   []string `json:"gone"`   // those that it does not change any more
	Hidden int      `json:"hidden"` // how many are not told
}

// doing is what a draft did when it was last looked at.
type doing struct {
	Steps   string   `json:"steps"` // by which it did
	On      int64    `json:"on"`
	Flows   []string `json:"flows"`
	Rebased *Rebased `json:"rebased"`
}

// stood is where a draft stood before the applied estate changed: the estates alone, since nobody
// may ever look.
type stood struct {
	steps    string
	revision int64
	on, next *estate.Estate
	former   map[estate.Ref]string
}

const mostRebased = 12

// stepsKey tells the steps of a draft that stand from others.
func (x *draft) stepsKey() string {
	var b strings.Builder
	for i := range x.steps {
		if s := &x.steps[i]; !s.Undone {
			fmt.Fprintf(&b, "%d %s %d;", s.Number, s.Author, s.At.UnixNano())
		}
	}
	return b.String()
}

// leave remembers where a draft stands that is about to be rebased, unless it stood elsewhere
// with the same steps and nobody has looked since.
func (x *draft) leave() {
	if x.on == nil || x.snapshot == x.on {
		return
	}
	if key := x.stepsKey(); x.stood == nil || x.stood.steps != key {
		x.stood = &stood{key, x.on.Revision, x.on.Estate, x.snapshot.Estate, x.former}
	}
}

// rebased returns what a draft does otherwise since it was last looked at with the same steps; nil
// if nothing. What it does now is kept for the next time. The lock of the draft is held.
func (d *Desk) rebased(ctx context.Context, x *draft) (*Rebased, error) {
	now := doing{Steps: x.stepsKey(), On: x.on.Revision, Flows: flowsIn(x.judge().consequence.Effect)}
	last := doing{}
	body, err := d.store.DraftEffect(ctx, x.row.ID)
	if err != nil {
		return nil, err
	}
	if body != nil {
		if err := json.Unmarshal(body, &last); err != nil {
			return nil, err
		}
	}
	if before := x.stood; last.Steps != now.Steps && before != nil && before.steps == now.Steps {
		was := draft{on: d.like(x.on, before.on, before.revision), former: before.former}
		was.snapshot = d.like(was.on, before.next, before.revision)
		last = doing{Steps: now.Steps, On: before.revision, Flows: flowsIn(was.judge().consequence.Effect)}
	}
	x.stood = nil
	if last.Steps == now.Steps {
		now.Rebased = last.Rebased
		if fresh, gone := onlyIn(now.Flows, last.Flows), onlyIn(last.Flows, now.Flows); len(fresh)+len(gone) > 0 {
			now.Rebased = &Rebased{From: last.On, To: now.On, New: fresh[:min(len(fresh), mostRebased)], Gone: gone[:min(len(gone), mostRebased)]}
			now.Rebased.Hidden = len(fresh) + len(gone) - len(now.Rebased.New) - len(now.Rebased.Gone)
		}
	}
	next, err := json.Marshal(&now)
	if err != nil || string(next) == string(body) {
		return now.Rebased, err
	}
	return now.Rebased, d.store.PutDraftEffect(context.WithoutCancel(ctx), x.row.ID, next)
}

// like returns a snapshot of an estate, worked out from one that is nearly the same.
func (d *Desk) like(near *view.Snapshot, e *estate.Estate, revision int64) *view.Snapshot {
	p := &view.Plan{Next: document.Shared(near.Estate, e)}
	near.WorkOut(p)
	out := near.After(p, revision, near.Known)
	d.app.Number(out)
	return out
}

// flowsIn puts the flows of an effect into words that can be compared.
func flowsIn(e *consequence.Effect) []string {
	outcome := func(m *matrix.Mark) string {
		if m == nil {
			return "no such flow"
		}
		if m.Contested {
			return string(m.Outcome) + " (conflict)"
		}
		return string(m.Outcome)
	}
	out := []string{}
	for i := range e.Flows {
		f := &e.Flows[i]
		services := strings.Join(f.Services.Terms, ", ")
		if len(f.Services.Except) > 0 {
			services = "all but " + strings.Join(f.Services.Except, ", ")
		}
		out = append(out, fmt.Sprintf("%s to %s on %s: %s instead of %s", f.From, f.To, services, outcome(f.After), outcome(f.Before)))
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// onlyIn returns the texts of one list that another does not have.
func onlyIn(list, other []string) []string {
	out := []string{}
	for _, x := range list {
		if _, has := slices.BinarySearch(other, x); !has {
			out = append(out, x)
		}
	}
	return out
}
