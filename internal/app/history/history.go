// Package history is the estate as it was (C4): its revisions, the estate as of any of them,
// what changed between two, since when a flow has its outcome, and the way back.
package history

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"sync"
	"time"

	"bivium/core/difference"
	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/internal/app"
	"bivium/internal/app/consequence"
	"bivium/internal/app/drafts"
	"bivium/internal/app/view"
	"bivium/internal/people"
	"bivium/internal/store"
)

// History looks back on the estate of an app. It is safe for concurrent use.
type History struct {
	app    *app.App
	store  *store.Store
	people *people.Register
	drafts *drafts.Desk

	mu   sync.Mutex
	kept []*view.Snapshot // the last that were asked for, the newest at the end
}

// mostKept is how many snapshots of earlier revisions are kept.
const mostKept = 3

// New returns the history of an app.
func New(a *app.App, register *people.Register, d *drafts.Desk) *History {
	return &History{app: a, store: a.Store, people: register, drafts: d}
}

// At returns the estate as it was at a revision, with everything that followed from it on the
// day on which that was made.
func (h *History) At(ctx context.Context, revision int64) (*view.Snapshot, error) {
	now := h.app.Now()
	if revision == now.Revision {
		return now, nil
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, s := range h.kept {
		if s.Revision == revision {
			return s, nil
		}
	}
	e, err := h.store.At(ctx, revision)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &view.Problem{At: "at", Message: fmt.Sprintf("there is no revision %d", revision), Fix: "choose one from History"}
	}
	if err != nil {
		return nil, err
	}
	day := now.Estate.Day
	if made, err := h.store.RevisionOf(ctx, revision); err == nil {
		day = made.At.Local().Format(estate.DayFormat)
	}
	p := &view.Plan{Next: estate.AsOf(document.Shared(now.Estate, e), day)}
	now.WorkOut(p)
	s := now.After(p, revision, now.Known)
	h.app.Number(s)
	if h.kept = append(h.kept, s); len(h.kept) > mostKept {
		h.kept = h.kept[1:]
	}
	return s, nil
}

// Entry is one revision as people read it.
type Entry struct {
	Number   int64        `json:"number"`
	At       time.Time    `json:"at"`
	Actor    string       `json:"actor"` // called
	What     string       `json:"what"`  // edit, or what else brought it
	Changes  int          `json:"changes"`
	Note     *drafts.Note `json:"note"`     // of a draft that became it; null for none
	Reviewed string       `json:"reviewed"` // who reviewed it, of one applied in an emergency
	Words    string       `json:"words"`    // what was edited, shortly; "" where that is not known
}

func (h *History) entry(r *store.RevisionRow) (Entry, error) {
	e := Entry{Number: r.Number, At: r.At, Actor: h.people.CalledOf(r.Actor), What: r.What, Changes: r.Changes, Reviewed: h.people.CalledOf(r.Reviewed)}
	if r.Note != nil {
		e.Note = &drafts.Note{}
		if err := json.Unmarshal(r.Note, e.Note); err != nil {
			return e, fmt.Errorf("the note of revision %d cannot be read: %w", r.Number, err)
		}
	}
	if x, err := edit.Read(r.Edit); r.Edit != nil && err == nil {
		e.Words = drafts.Words(x)
	}
	return e, nil
}

// pageOf is how many revisions are told at once.
const pageOf = 100

// Page returns the last revisions before a number, 0 for the end, the newest first; with those
// of syncs and routers where all are wanted.
func (h *History) Page(ctx context.Context, before int64, all bool) ([]Entry, error) {
	if before <= 0 {
		before = math.MaxInt64
	}
	rows, err := h.store.Revisions(ctx, before, all, pageOf)
	if err != nil {
		return nil, err
	}
	out := []Entry{}
	for i := range rows {
		e, err := h.entry(&rows[i])
		if err != nil {
			return nil, err
		}
		out = append(out, e)
	}
	return out, nil
}

// Comparison is what differs between two revisions.
type Comparison struct {
	From        int64                    `json:"from"`
	To          int64                    `json:"to"`
	Entry       *Entry                   `json:"entry"` // of the later one, where they follow on each other
	Objects     []drafts.ObjectDiff      `json:"objects"`
	Consequence *consequence.Consequence `json:"consequence"`
}

// Compare returns what differs between the estate as of two revisions.
func (h *History) Compare(ctx context.Context, from, to int64) (*Comparison, error) {
	was, err := h.At(ctx, from)
	if err != nil {
		return nil, err
	}
	is, err := h.At(ctx, to)
	if err != nil {
		return nil, err
	}
	p := &view.Plan{Next: is.Estate, Analysis: is.Analysis, Changed: difference.Compare(was.Matrix, is.Matrix)}
	out := &Comparison{From: from, To: to, Objects: drafts.Diffs(was, p), Consequence: consequence.Of(was, is, p)}
	if to == from+1 {
		if row, err := h.store.RevisionOf(ctx, to); err == nil {
			e, err := h.entry(row)
			if err != nil {
				return nil, err
			}
			out.Entry = &e
		}
	}
	return out, nil
}

// RollBack begins a draft that undoes a revision of people's, and not those after it. What of
// it was changed since is in conflict there.
func (h *History) RollBack(ctx context.Context, by *people.Who, revision int64) (*drafts.Summary, error) {
	row, err := h.store.RevisionOf(ctx, revision)
	if err != nil {
		return nil, err
	}
	if row.What != store.Edit {
		return nil, &view.Problem{At: "revision", Message: fmt.Sprintf("revision %d came from %s, which would bring it again", revision, row.What), Fix: "roll back what a person changed"}
	}
	var changes []document.Change
	if err := h.store.Changed(ctx, revision, revision-1, func(_ int64, c []document.Change) bool { changes = c; return false }); err != nil {
		return nil, err
	}
	x, err := inverse(changes)
	if err != nil {
		return nil, err
	}
	if len(x.Operations) == 0 {
		return nil, &view.Problem{At: "revision", Message: fmt.Sprintf("revision %d changed no object", revision), Fix: "choose another"}
	}
	return h.drafts.BeginWith(ctx, by, fmt.Sprintf("roll-back-%d", revision), fmt.Sprintf("Rolls back revision %d", revision), x, revision)
}

// TakeBack rolls a revision back at once, for a reason: what it does is that of before, which was
// approved then.
func (h *History) TakeBack(ctx context.Context, revision int64, why string) error {
	by := people.System("bivium")
	d, err := h.RollBack(ctx, by, revision)
	if err != nil {
		return err
	}
	if err := h.drafts.Describe(ctx, by, d.ID, d.Name, fmt.Sprintf("Takes revision %d back: %s", revision, why), ""); err != nil {
		return err
	}
	_, err = h.drafts.Apply(ctx, by, d.ID, 0, drafts.How{Emergency: why})
	return err
}

// inverse returns the edit that undoes some changes, on the things as they left them.
func inverse(changes []document.Change) (*edit.Edit, error) {
	x := &edit.Edit{}
	var gone []edit.Operation
	for i := range changes {
		c := &changes[i]
		kind := document.KindOf(c.List)
		base := edit.Absent
		if c.After != nil {
			value, err := document.ValueOf(c.After)
			if err != nil {
				return nil, err
			}
			thing, err := value.Thing(kind)
			if err != nil {
				return nil, err
			}
			base = document.Base(thing)
		}
		switch {
		case c.Before == nil:
			gone = append(gone, edit.Operation{Op: edit.Delete, Kind: kind, Name: c.Key, Base: base})
			continue
		case c.Was != "" && c.After != nil:
			x.Operations = append(x.Operations, edit.Operation{Op: edit.Rename, Kind: kind, Name: c.Key, To: c.Was, Base: base})
			base = ""
		}
		value, err := document.ValueOf(c.Before)
		if err != nil {
			return nil, err
		}
		x.Operations = append(x.Operations, edit.Operation{Op: edit.Put, Kind: kind, Object: value, Base: base})
	}
	x.Operations = append(x.Operations, gone...)
	return x, nil
}

// ReviewLater notes that somebody reviewed what was applied in an emergency (C2.6): an owner
// of one of the segments that should have approved, who did not apply it.
func (h *History) ReviewLater(ctx context.Context, by *people.Who, revision int64) error {
	row, err := h.store.RevisionOf(ctx, revision)
	if err != nil {
		return err
	}
	e, err := h.entry(row)
	if err != nil {
		return err
	}
	if e.Note == nil || e.Note.Emergency == "" {
		return &view.Problem{At: "revision", Message: fmt.Sprintf("revision %d was not applied in an emergency", revision), Fix: "choose another"}
	}
	if row.Reviewed != "" {
		return &view.Problem{At: "revision", Message: fmt.Sprintf("%s has reviewed it", e.Reviewed), Fix: "there is nothing to do"}
	}
	if row.Actor == by.Name || !by.Owns(e.Note.Asked) || !by.May(people.Approver) {
		return &view.Problem{At: "revision", Message: "only an owner of a segment that should have approved can review it, who did not apply it", Fix: "ask one of them"}
	}
	if err := h.store.ReviewLater(ctx, revision, by.Name, h.app.Clock()); err != nil {
		return err
	}
	return h.people.Audit().Add(ctx, by, "emergency reviewed", fmt.Sprintf("revision %d", revision), "")
}
