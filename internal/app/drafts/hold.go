package drafts

import (
	"bytes"
	"context"
	"encoding/json"
	"maps"
	"slices"

	"bivium/core/approval"
	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/internal/app/view"
	"bivium/internal/people"
	"bivium/internal/store"
)

// piece is one thing that a sync or a router brings, and that can be kept back: the labels of a
// workload or network, or what it learns.
type piece struct {
	ref  estate.Ref
	undo func(e *estate.Estate) // takes it back; the lists of e may be written to
}

// hold keeps back labels that a sync would bring, and prefixes that a router would, where they
// would open flows of a segment that asks its owners (C2.5). The rest goes on. What is kept
// back waits as a draft in review, and is brought once that is approved and applied.
func (d *Desk) hold(before, after *view.Snapshot, p *view.Plan, what string) (*estate.Estate, func()) {
	if !approval.Guarded(before.Estate) {
		return nil, nil
	}
	pieces := piecesOf(before.Estate, after.Estate)
	if len(pieces) == 0 || len(approval.Needed(before.Analysis, after.Analysis, p.Former)) == 0 {
		return nil, nil
	}
	rest := without(after.Estate, pieces)
	asks := func(e *estate.Estate) int {
		plan := &view.Plan{Next: e}
		before.WorkOut(plan)
		n := 0
		for _, need := range approval.Needed(before.Analysis, plan.Analysis, p.Former) {
			n += 1 + len(need.Changes)
		}
		return n
	}
	least := asks(rest) // what would be asked for all the same
	var held []piece
	var look func(some []piece)
	look = func(some []piece) {
		others := slices.DeleteFunc(slices.Clone(pieces), func(x piece) bool {
			return slices.ContainsFunc(some, func(y piece) bool { return y.ref == x.ref })
		})
		switch {
		case len(some) == 0 || asks(without(after.Estate, others)) <= least:
		case len(some) == 1:
			held = append(held, some[0])
		default:
			look(some[:len(some)/2])
			look(some[len(some)/2:])
		}
	}
	look(pieces)
	if rest = without(after.Estate, held); asks(rest) > least { // they open something together
		held = pieces
		rest = without(after.Estate, held)
	}
	if len(held) == 0 {
		return nil, nil
	}
	x := &edit.Edit{}
	for _, h := range held {
		thing, ok := edit.In(after.Estate)(h.ref)
		if ok {
			x.Operations = append(x.Operations, edit.PutOf(rest, h.ref, document.Body(thing)))
		}
	}
	return rest, func() { d.wait(x, what) }
}

// piecesOf returns what can be kept back of what leads from one estate to another.
func piecesOf(before, after *estate.Estate) []piece {
	var out []piece
	workloads, networks, attachments := map[string]*estate.Workload{}, map[string]*estate.Network{}, map[string]*estate.Attachment{}
	for i := range before.Workloads {
		workloads[before.Workloads[i].Name] = &before.Workloads[i]
	}
	for i := range before.Networks {
		networks[before.Networks[i].Name] = &before.Networks[i]
	}
	for i := range before.Attachments {
		attachments[before.Attachments[i].Name] = &before.Attachments[i]
	}
	for i := range after.Workloads {
		w := &after.Workloads[i]
		var labels map[string]string
		if was := workloads[w.Name]; was != nil {
			labels = was.Labels
		}
		if !maps.Equal(labels, w.Labels) {
			out = append(out, piece{estate.Ref{Kind: estate.KindWorkload, Name: w.Name}, func(e *estate.Estate) { e.Workloads[i].Labels = labels }})
		}
	}
	for i := range after.Networks {
		n := &after.Networks[i]
		var labels map[string]string
		if was := networks[n.Name]; was != nil {
			labels = was.Labels
		}
		if !maps.Equal(labels, n.Labels) {
			out = append(out, piece{estate.Ref{Kind: estate.KindNetwork, Name: n.Name}, func(e *estate.Estate) { e.Networks[i].Labels = labels }})
		}
	}
	for i := range after.Attachments {
		a := &after.Attachments[i]
		if was := attachments[a.Name]; was != nil && !slices.Equal(waiting(was.Learned, a.Learned), a.Learned) {
			out = append(out, piece{estate.Ref{Kind: estate.KindAttachment, Name: a.Name}, func(e *estate.Estate) { e.Attachments[i].Learned = waiting(was.Learned, a.Learned) }})
		}
	}
	return out
}

// waiting returns prefixes of which those that are accepted now, and were not, wait.
func waiting(was, is []estate.Learned) []estate.Learned {
	out := slices.Clone(is)
	for i := range out {
		known := slices.ContainsFunc(was, func(l estate.Learned) bool {
			return l.Prefix == out[i].Prefix && l.Segment == out[i].Segment && l.Claims()
		})
		if out[i].Claims() && !known {
			out[i].Status = "waiting"
		}
	}
	return out
}

// without returns an estate in which some pieces are kept back.
func without(e *estate.Estate, held []piece) *estate.Estate {
	next := *e
	next.Workloads, next.Networks, next.Attachments = slices.Clone(e.Workloads), slices.Clone(e.Networks), slices.Clone(e.Attachments)
	for _, h := range held {
		h.undo(&next)
	}
	return &next
}

// wait puts an edit that was kept back into a draft in review, unless one with the same waits
// already.
func (d *Desk) wait(x *edit.Edit, what string) {
	ctx := context.Background()
	body, err := json.Marshal(x)
	if err != nil {
		d.app.Log.Error("what was kept back cannot be written", "error", err)
		return
	}
	d.mu.Lock()
	for _, known := range d.drafts {
		open := known.row.State == store.DraftReview || known.row.State == store.DraftApproved || known.row.State == store.DraftOpen
		if open && known.row.Author == what && len(known.steps) == 1 && bytes.Equal(known.steps[0].Body, body) {
			d.mu.Unlock()
			return
		}
	}
	d.mu.Unlock()
	by := people.System(what)
	reason := "Labels or prefixes from " + what + " that would open flows of a segment whose owners must approve"
	s, err := d.BeginWith(ctx, by, "waits-for-owner", reason, x, 0)
	if err == nil {
		err = d.Move(ctx, by, s.ID, store.DraftReview)
	}
	if err != nil {
		d.app.Log.Error("what was kept back cannot be drafted", "error", err)
	}
}
