package drafts

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"bivium/core/edit"
	"bivium/internal/app"
	"bivium/internal/app/consequence"
	"bivium/internal/app/view"
	"bivium/internal/notices"
	"bivium/internal/people"
	"bivium/internal/store"
)

// Note is what is known of a revision that a draft became.
type Note struct {
	Draft     int64    `json:"draft"`
	Name      string   `json:"name"`
	Reason    string   `json:"reason,omitempty"`
	Ticket    string   `json:"ticket,omitempty"`
	Authors   []string `json:"authors"`
	Approvals []string `json:"approvals"`           // "tove for turbine"
	Emergency string   `json:"emergency,omitempty"` // why it was applied without approvals
	Asked     []string `json:"asked,omitempty"`     // the owners who had not approved then
	Staged    bool     `json:"staged,omitempty"`    // written stage by stage, with test packets after each
	Undoes    int64    `json:"undoes,omitempty"`    // the revision that it rolled back
}

// hindrance says why a draft cannot be applied; "" if it can.
func (x *draft) hindrance(j *judgement) string {
	if why := x.obstacle(j); why != "" {
		return why
	}
	if unapproved := x.unapproved(); len(unapproved) > 0 {
		return "owners of " + strings.Join(unapproved, ", ") + " must approve first"
	}
	return ""
}

// obstacle says why a draft cannot be applied even in an emergency; "" if it can.
func (x *draft) obstacle(j *judgement) string {
	switch {
	case x.row.State == store.DraftApplied:
		return "it is applied"
	case x.row.State == store.DraftDiscarded:
		return "it is discarded"
	case len(x.conflicts) > 0:
		return "conflicts must be decided first"
	case x.snapshot == x.on || len(j.plan.Changes(x.on.Estate)) == 0:
		return "it changes nothing"
	case len(j.consequence.Refused) > 0:
		return fmt.Sprintf("it brings a fault: %s", j.consequence.Refused[0].Message)
	}
	return ""
}

// mostTries is how often applying begins anew where the estate changes meanwhile.
const mostTries = 5

// How is how a draft is applied.
type How struct {
	// Emergency, if it is not "", is why that happens without approvals, or outside of a window: it
	// lifts nothing else, and cannot change owners or approval (C2.6).
	Emergency string
	// Staged asks for test packets after each step of writing, and for going back where one does not
	// come out as predicted.
	Staged bool
}

// Apply makes a draft, of which somebody saw a version, the estate.
func (d *Desk) Apply(ctx context.Context, by *people.Who, id, version int64, how How) (*consequence.Consequence, error) {
	x, err := d.find(id)
	if err != nil {
		return nil, err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	for range mostTries {
		if err := d.settle(ctx, x); err != nil {
			return nil, err
		}
		if err := x.closed(); err != nil {
			return nil, err
		}
		if version != 0 && version != x.snapshot.Revision {
			return nil, &store.StaleError{Based: version, Current: x.snapshot.Revision}
		}
		out, err := d.applyNow(ctx, by, x, how)
		var stale *store.StaleError
		if version == 0 && errors.As(err, &stale) {
			continue
		}
		return out, err
	}
	return nil, &view.Problem{At: "draft", Message: "the estate kept changing while the draft was applied", Fix: "apply it again"}
}

func (d *Desk) applyNow(ctx context.Context, by *people.Who, x *draft, how How) (*consequence.Consequence, error) {
	if err := d.look(ctx, x); err != nil { // what was approved must be what is applied
		return nil, err
	}
	j := x.judge()
	note := d.note(x)
	note.Staged = how.Staged
	shut, err := d.outside(ctx, x, j)
	if err != nil {
		return nil, err
	}
	if unapproved := x.unapproved(); how.Emergency != "" && (len(unapproved) > 0 || shut != "") {
		for _, n := range j.needs {
			if n.Guard {
				return nil, &view.Problem{At: "emergency", Message: fmt.Sprintf("the draft changes who approves for segment %s, which an emergency cannot", n.Segment), Fix: "ask its owners"}
			}
		}
		note.Emergency = how.Emergency
		for _, n := range j.needs {
			if slices.Contains(unapproved, n.Segment) {
				note.Asked = append(note.Asked, n.Owners...)
			}
		}
	}
	why := cmp.Or(x.hindrance(j), shut)
	if note.Emergency != "" {
		why = x.obstacle(j)
	}
	if why != "" {
		return nil, &view.Problem{At: "draft", Message: fmt.Sprintf("draft %s cannot be applied: %s", x.row.Name, why), Fix: "see the review of the draft"}
	}
	if err := d.within(by, x, people.Operator); err != nil {
		return nil, err
	}
	operations, _, err := x.operations()
	if err != nil {
		return nil, err
	}
	body, err := json.Marshal(edit.Edit{Operations: operations})
	if err != nil {
		return nil, err
	}
	noted, err := json.Marshal(note)
	if err != nil {
		return nil, err
	}
	on := x.on
	out, err := d.app.Take(ctx, &app.Revision{
		Based: on.Revision, Plan: j.plan, Edit: body, Note: noted, Actor: by.Name,
		Strict: func(now *view.Snapshot) bool { return now == on },
		Allow:  func(_, _ *view.Snapshot, _ *view.Plan) error { return nil }, // it was looked at above, on the same snapshot
	})
	if err != nil {
		return nil, err
	}
	row := x.row
	row.State, row.Revision, row.Changed = store.DraftApplied, out.Revision, d.clock()
	if err := d.store.PutDraft(context.WithoutCancel(ctx), &row, nil); err != nil {
		return nil, err
	}
	x.row = row
	d.Notices.Tell(ctx, d.authorsOf(x, by), notices.Notice{
		Kind: notices.Draft, Subject: fmt.Sprintf("Draft %s is applied as revision %d", row.Name, out.Revision), Body: "By " + by.Called + ".", Link: fmt.Sprintf("/changes/%d", row.ID),
	})
	d.Events.tell(Event{Kind: EventDraft, Draft: row.ID})
	detail := fmt.Sprintf("revision %d", out.Revision)
	if note.Emergency != "" {
		detail += "; emergency, without approvals: " + note.Emergency
	}
	return out, d.people.Audit().Add(ctx, by, "draft applied", row.Name, detail)
}

// note returns what will be known of the revision that a draft becomes.
func (d *Desk) note(x *draft) *Note {
	n := &Note{Draft: x.row.ID, Name: x.row.Name, Reason: x.row.Reason, Ticket: x.row.Ticket, Authors: []string{}, Approvals: []string{}, Undoes: x.row.Undoes}
	s := d.summary(x)
	n.Authors = append(n.Authors, s.Authors...)
	for _, a := range x.said {
		if a.Why == "" {
			n.Approvals = append(n.Approvals, fmt.Sprintf("%s for %s", d.people.CalledOf(a.Person), a.Segment))
		}
	}
	return n
}
