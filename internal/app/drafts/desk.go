// Package drafts is what people prepare before it becomes the estate (C3): drafts that several
// write at once, their place on the estate as that changes, review, approval and applying.
//
// A draft is a list of steps, each what somebody saved at once. They are kept as they were
// written, with their bases; the snapshot of a draft is the estate of now with all of them
// made. What of them is in conflict with the estate of now is left out until somebody
// decides.
package drafts

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/internal/app"
	"bivium/internal/app/view"
	"bivium/internal/notices"
	"bivium/internal/people"
	"bivium/internal/store"
)

// Desk holds the drafts of an estate. It is safe for concurrent use.
type Desk struct {
	app    *app.App
	store  *store.Store
	people *people.Register
	clock  func() time.Time
	Events Events
	// Notices tells people what they should know of drafts; nil tells nobody.
	Notices *notices.Service

	number atomic.Int64 // of the last snapshot of a draft; see version
	mu     sync.Mutex
	drafts map[int64]*draft
}

// draft is one draft, and the snapshot of it.
type draft struct {
	mu    sync.Mutex
	row   store.Draft
	steps []store.DraftStep
	said  []store.Approval

	on        *view.Snapshot // on which it stands; nil before it is first asked for
	snapshot  *view.Snapshot
	shown     []shown // the last snapshots, the newest at the end
	former    map[estate.Ref]string
	conflicts []Conflict
	judged    *judgement // of the snapshot; nil until it is asked for
	stood     *stood     // where it stood before it was rebased; nil if nobody has to be told
}

// Open returns the desk of an app, with the drafts that its database holds, and lets it
// refuse edits past drafts which owners must approve.
func Open(ctx context.Context, a *app.App, register *people.Register) (*Desk, error) {
	d := &Desk{app: a, store: a.Store, people: register, clock: a.Clock, drafts: map[int64]*draft{}}
	d.number.Store(a.Clock().UnixMilli() * 1000)
	rows, err := a.Store.Drafts(ctx)
	if err != nil {
		return nil, fmt.Errorf("load the drafts: %w", err)
	}
	applied, err := a.Store.AppliedDrafts(ctx)
	if err != nil {
		return nil, fmt.Errorf("load what drafts became: %w", err)
	}
	for _, row := range rows {
		if revision := applied[row.ID]; revision > 0 && row.State != store.DraftApplied { // the server ended in between
			row.State, row.Revision = store.DraftApplied, revision
			if err := a.Store.PutDraft(ctx, &row, nil); err != nil {
				return nil, fmt.Errorf("load draft %s: %w", row.Name, err)
			}
		}
		x := &draft{row: row}
		if x.steps, err = a.Store.DraftSteps(ctx, row.ID); err != nil {
			return nil, fmt.Errorf("load draft %s: %w", row.Name, err)
		}
		if x.said, err = a.Store.Approvals(ctx, row.ID); err != nil {
			return nil, fmt.Errorf("load draft %s: %w", row.Name, err)
		}
		d.drafts[row.ID] = x
	}
	a.Allow, a.Hold, a.Changed = refuseUnapproved, d.hold, d.Events.changed
	return d, nil
}

// version returns the number of a new snapshot of a draft. It takes the place of a revision,
// which is positive; none is given twice, whatever restarts lie between.
func (d *Desk) version() int64 { return -d.number.Add(1) }

// find returns a draft.
func (d *Desk) find(id int64) (*draft, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if x := d.drafts[id]; x != nil {
		return x, nil
	}
	return nil, store.ErrNotFound
}

// Summary is a draft in a list of drafts.
type Summary struct {
	ID       int64     `json:"id"`
	Name     string    `json:"name"`
	Reason   string    `json:"reason"`
	Ticket   string    `json:"ticket"`
	State    string    `json:"state"`
	Author   string    `json:"author"`  // called
	Authors  []string  `json:"authors"` // of its steps, called
	Steps    int       `json:"steps"`
	Changed  time.Time `json:"changed"`
	Revision int64     `json:"revision"` // that it was applied as; 0 for none
	Undoes   int64     `json:"undoes"`   // the revision that it rolls back; 0 for none
}

func (d *Desk) summary(x *draft) Summary {
	out := Summary{
		ID: x.row.ID, Name: x.row.Name, Reason: x.row.Reason, Ticket: x.row.Ticket, State: x.row.State, Author: d.people.CalledOf(x.row.Author),
		Authors: []string{}, Changed: x.row.Changed, Revision: x.row.Revision, Undoes: x.row.Undoes,
	}
	for i := range x.steps {
		if s := &x.steps[i]; !s.Undone {
			out.Steps++
			if name := d.people.CalledOf(s.Author); !slices.Contains(out.Authors, name) {
				out.Authors = append(out.Authors, name)
			}
		}
	}
	return out
}

// discardedLast is how long a draft that was discarded is listed.
const discardedLast = 90 * 24 * time.Hour

// All returns all drafts, those that changed last first.
func (d *Desk) All() []Summary {
	d.mu.Lock()
	list := make([]*draft, 0, len(d.drafts))
	for _, x := range d.drafts {
		list = append(list, x)
	}
	d.mu.Unlock()
	out := []Summary{}
	for _, x := range list {
		x.mu.Lock()
		if x.row.State != store.DraftDiscarded || d.clock().Sub(x.row.Changed) < discardedLast {
			out = append(out, d.summary(x))
		}
		x.mu.Unlock()
	}
	slices.SortFunc(out, func(a, b Summary) int { return cmp.Or(b.Changed.Compare(a.Changed), cmp.Compare(b.ID, a.ID)) })
	return out
}

// Open returns how many drafts are open, in review or approved.
func (d *Desk) Open() int {
	n := 0
	for _, s := range d.All() {
		if s.State != store.DraftApplied && s.State != store.DraftDiscarded {
			n++
		}
	}
	return n
}

// closed returns what keeps a draft from being changed, or nil.
func (x *draft) closed() error {
	switch x.row.State {
	case store.DraftApplied:
		return &view.Problem{At: "draft", Message: fmt.Sprintf("draft %s is applied", x.row.Name), Fix: "begin another draft"}
	case store.DraftDiscarded:
		return &view.Problem{At: "draft", Message: fmt.Sprintf("draft %s is discarded", x.row.Name), Fix: "reopen it first"}
	}
	return nil
}

// Begin begins a draft, without steps. A name that is not given is made up.
func (d *Desk) Begin(ctx context.Context, by *people.Who, name, reason, ticket string) (*Summary, error) {
	now := d.clock()
	x := &draft{row: store.Draft{
		Name: d.free(strings.TrimSpace(name), by), Reason: reason, Ticket: ticket, State: store.DraftOpen, Based: d.app.Now().Revision, Author: by.Name, Made: now, Changed: now,
	}}
	return d.begin(ctx, by, x)
}

func (d *Desk) begin(ctx context.Context, by *people.Who, x *draft) (*Summary, error) {
	if err := d.store.PutDraft(ctx, &x.row, x.steps); err != nil {
		return nil, err
	}
	d.mu.Lock()
	d.drafts[x.row.ID] = x
	d.mu.Unlock()
	d.Events.tell(Event{Kind: EventDrafts})
	out := d.summary(x)
	return &out, d.people.Audit().Add(ctx, by, "draft begun", x.row.Name, x.row.Reason)
}

// BeginWith begins a draft with an edit that was made for the estate as of a revision which it
// undoes, or, with 0, for the estate of now.
func (d *Desk) BeginWith(ctx context.Context, by *people.Who, name, reason string, x *edit.Edit, undoes int64) (*Summary, error) {
	body, err := json.Marshal(x)
	if err != nil {
		return nil, err
	}
	now := d.clock()
	seen := undoes
	if seen == 0 {
		seen = d.app.Now().Revision
	}
	out := &draft{
		row:   store.Draft{Name: d.free(name, by), Reason: reason, State: store.DraftOpen, Based: seen, Author: by.Name, Made: now, Changed: now, Undoes: undoes},
		steps: []store.DraftStep{{Number: 1, Author: by.Name, At: now, Seen: seen, Body: body}},
	}
	return d.begin(ctx, by, out)
}

// free returns a name for a draft that no open one has: the one given, or one made up.
func (d *Desk) free(name string, by *people.Who) string {
	if name == "" {
		name = by.Name + "-" + d.clock().Format("02-Jan")
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	return estate.FreeName(name, func(n string) bool {
		for _, x := range d.drafts {
			if x.row.Name == n && x.row.State != store.DraftDiscarded {
				return true
			}
		}
		return false
	})
}

// Describe changes what a draft is called, and why it is.
func (d *Desk) Describe(ctx context.Context, by *people.Who, id int64, name, reason, ticket string) error {
	draft, err := d.find(id)
	if err != nil {
		return err
	}
	if name = strings.TrimSpace(name); name == "" {
		return &view.Problem{At: "name", Message: "the draft has no name", Fix: "give it one"}
	}
	draft.mu.Lock()
	defer draft.mu.Unlock()
	if err := draft.closed(); err != nil {
		return err
	}
	row := draft.row
	row.Name, row.Reason, row.Ticket, row.Changed = name, reason, ticket, d.clock()
	if err := d.store.PutDraft(ctx, &row, nil); err != nil {
		return err
	}
	draft.row = row
	d.Events.tell(Event{Kind: EventDraft, Draft: id})
	return d.people.Audit().Add(ctx, by, "draft described", row.Name, row.Reason)
}

// moves are the states that a person may bring a draft to, from others. Approved and applied
// are come to otherwise.
var moves = map[string][]string{
	store.DraftOpen:      {store.DraftReview, store.DraftApproved, store.DraftDiscarded},
	store.DraftReview:    {store.DraftOpen},
	store.DraftDiscarded: {store.DraftOpen, store.DraftReview, store.DraftApproved},
}

// Move brings a draft to another state.
func (d *Desk) Move(ctx context.Context, by *people.Who, id int64, state string) error {
	draft, err := d.find(id)
	if err != nil {
		return err
	}
	draft.mu.Lock()
	defer draft.mu.Unlock()
	if !slices.Contains(moves[state], draft.row.State) {
		return &view.Problem{At: "state", Message: fmt.Sprintf("a draft that is %s cannot become %s", draft.row.State, state), Fix: "see what can be done with it"}
	}
	if state == store.DraftReview {
		if err := d.settle(ctx, draft); err != nil {
			return err
		}
		if err := d.within(by, draft, people.Engineer); err != nil {
			return err
		}
	}
	row := draft.row
	row.State, row.Changed = state, d.clock()
	if err := d.store.PutDraft(context.WithoutCancel(ctx), &row, nil); err != nil {
		return err
	}
	draft.row = row
	if state == store.DraftReview {
		if err := d.look(ctx, draft); err != nil {
			return err
		}
		d.ask(ctx, by, draft)
	}
	d.Events.tell(Event{Kind: EventDraft, Draft: id})
	return d.people.Audit().Add(ctx, by, "draft "+state, row.Name, "")
}

// ask tells the owners of segments that a draft waits for them.
func (d *Desk) ask(ctx context.Context, by *people.Who, x *draft) {
	for _, segment := range x.unapproved() {
		for _, n := range x.judge().needs {
			if n.Segment != segment {
				continue
			}
			var to []string
			for _, p := range d.people.Members(n.Owners) {
				if p.Name != by.Name {
					to = append(to, p.Name)
				}
			}
			d.Notices.Tell(ctx, to, notices.Notice{
				Kind: notices.Approval, Subject: fmt.Sprintf("Draft %s waits for your approval for segment %s", x.row.Name, segment),
				Body: strings.TrimSpace(fmt.Sprintf("%s submitted it for review. %s", by.Called, x.row.Reason)), Link: fmt.Sprintf("/changes/%d", x.row.ID),
			})
		}
	}
}
