package drafts

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"bivium/core/approval"
	"bivium/core/difference"
	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/matrix"
	"bivium/core/space"
	"bivium/core/trace"
	"bivium/core/verdict"
	"bivium/internal/app/consequence"
	"bivium/internal/app/view"
	"bivium/internal/notices"
	"bivium/internal/people"
	"bivium/internal/store"
	"bivium/internal/wording"
)

// judgement is what a draft would do to the estate on which it stands.
type judgement struct {
	plan        *view.Plan
	consequence *consequence.Consequence
	needs       []approval.Need
}

// judge works out what a draft would do, if that is not known. The lock of the draft is held.
func (x *draft) judge() *judgement {
	if x.judged != nil {
		return x.judged
	}
	p := &view.Plan{Next: x.snapshot.Estate, Former: x.former, Analysis: x.snapshot.Analysis}
	if x.snapshot == x.on {
		none := consequence.Nothing(x.on.Revision)
		none.Effect = consequence.NoEffect(x.on.Revision)
		x.judged = &judgement{p, none, nil}
		return x.judged
	}
	p.Changed = difference.Compare(x.on.Matrix, x.snapshot.Matrix)
	out := consequence.Of(x.on, x.snapshot, p)
	out.Refused = consequence.Faults(x.on, x.snapshot)
	x.judged = &judgement{p, out, approval.Needed(x.on.Analysis, x.snapshot.Analysis, x.former)}
	return x.judged
}

// Asked is a segment whose owners must approve a draft.
type Asked struct {
	Segment  string        `json:"segment"`
	Owners   []string      `json:"owners"`   // as the segment names them
	Members  []string      `json:"members"`  // the people who they are, called; without those who wrote
	Guard    bool          `json:"guard"`    // the draft removes the segment, or changes its owners or approval
	Flows    []AskedFlow   `json:"flows"`    // because of which they are asked
	More     int           `json:"more"`     // flows that are not told
	Approved *ApprovalView `json:"approved"` // null while nobody has
	May      bool          `json:"may"`      // whoever looks may approve
	WhyNot   string        `json:"whyNot"`   // and if not, why
}

// AskedFlow is flows because of which a segment is asked.
type AskedFlow struct {
	From         string            `json:"from"`
	To           string            `json:"to"`
	Sources      []string          `json:"sources"` // "*" for all
	Destinations []string          `json:"destinations"`
	Services     view.ServiceWords `json:"services"`
	Before       *matrix.Mark      `json:"before"` // null where there were none
	After        *matrix.Mark      `json:"after"`
	Imagined     bool              `json:"imagined"`
	Witness      *view.Witness     `json:"witness"` // null for imagined ones
	Was          []wording.Token   `json:"was"`
	Will         []wording.Token   `json:"will"`
}

// ApprovalView is an approval as people read it.
type ApprovalView struct {
	Segment string    `json:"segment"`
	Person  string    `json:"person"`
	At      time.Time `json:"at"`
	Why     string    `json:"why"` // why it stands no more; "" while it does
}

// StepView is a step of a draft.
type StepView struct {
	Number int64     `json:"number"`
	Author string    `json:"author"`
	At     time.Time `json:"at"`
	Undone bool      `json:"undone"`
	Words  string    `json:"words"`
}

// CommentView is a comment on a draft.
type CommentView struct {
	ID       int64     `json:"id"`
	About    string    `json:"about"`
	Author   string    `json:"author"`
	At       time.Time `json:"at"`
	Text     string    `json:"text"`
	Resolved string    `json:"resolved"`
}

// ObjectDiff is a thing that a draft changes, before and after, as the document writes it.
type ObjectDiff struct {
	Kind   string `json:"kind"`
	Name   string `json:"name"`
	Was    string `json:"was"`    // its name before, where that was another
	Before string `json:"before"` // "" for a new one
	After  string `json:"after"`  // "" for one that goes
}

// Review is everything about a draft.
type Review struct {
	Summary
	Applied     int64                    `json:"applied"` // the revision on which it stands
	Version     int64                    `json:"version"` // of its snapshot
	StepList    []StepView               `json:"stepList"`
	Conflicts   []Conflict               `json:"conflicts"`
	Consequence *consequence.Consequence `json:"consequence"`
	Objects     []ObjectDiff             `json:"objects"`
	Rebased     *Rebased                 `json:"rebased"` // what it does otherwise than before; null for nothing
	Asked       []Asked                  `json:"asked"`
	Approvals   []ApprovalView           `json:"approvals"`
	Comments    []CommentView            `json:"comments"`
	CanApply    string                   `json:"canApply"` // why it cannot be applied; "" if it can
	Outside     string                   `json:"outside"`  // why a window or freeze does not let it be applied now; "" where none does
}

const (
	mostAskedFlows = 12
	mostDiffs      = 200
)

// Findings returns the findings that a draft brings, and those that it does away with.
func (d *Desk) Findings(ctx context.Context, id int64) (*view.IssueChanges, error) {
	x, err := d.find(id)
	if err != nil {
		return nil, err
	}
	x.mu.Lock()
	err = d.settle(ctx, x)
	was, is := x.on, x.snapshot
	x.mu.Unlock()
	if err != nil {
		return nil, err
	}
	return is.IssuesSince(was), nil
}

// Review returns everything about a draft, as somebody sees it who may approve or not.
func (d *Desk) Review(ctx context.Context, by *people.Who, id int64) (*Review, error) {
	x, err := d.find(id)
	if err != nil {
		return nil, err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if err := d.settle(ctx, x); err != nil {
		return nil, err
	}
	j := x.judge()
	out := &Review{
		Summary: d.summary(x), Applied: x.on.Revision, Version: x.snapshot.Revision, StepList: []StepView{}, Conflicts: append([]Conflict{}, x.conflicts...),
		Consequence: j.consequence, Objects: Diffs(x.on, j.plan), Asked: []Asked{}, Approvals: []ApprovalView{}, Comments: []CommentView{},
	}
	if x.closed() == nil {
		if out.Rebased, err = d.rebased(ctx, x); err != nil {
			return nil, err
		}
	}
	for _, s := range x.steps {
		one, err := edit.Read(s.Body)
		if err != nil {
			return nil, err
		}
		out.StepList = append(out.StepList, StepView{s.Number, d.people.CalledOf(s.Author), s.At, s.Undone, Words(one)})
	}
	for i := range j.needs {
		out.Asked = append(out.Asked, d.asked(x, by, &j.needs[i]))
	}
	for _, a := range x.said {
		out.Approvals = append(out.Approvals, d.approvalView(&a))
	}
	comments, err := d.store.Comments(ctx, id)
	if err != nil {
		return nil, err
	}
	for _, c := range comments {
		out.Comments = append(out.Comments, CommentView{c.ID, c.About, d.people.CalledOf(c.Author), c.At, c.Text, c.Resolved})
	}
	out.CanApply = x.hindrance(j)
	if x.row.State != store.DraftApplied && x.row.State != store.DraftDiscarded {
		if out.Outside, err = d.outside(ctx, x, j); err != nil {
			return nil, err
		}
	}
	out.CanApply = cmp.Or(out.CanApply, out.Outside)
	return out, nil
}

func (d *Desk) approvalView(a *store.Approval) ApprovalView {
	return ApprovalView{a.Segment, d.people.CalledOf(a.Person), a.At, a.Why}
}

// Diffs returns the things that a plan changes.
func Diffs(on *view.Snapshot, p *view.Plan) []ObjectDiff {
	out := []ObjectDiff{}
	changes := p.Changes(on.Estate)
	for i := range changes {
		c := &changes[i]
		if c.Moved() || len(out) >= mostDiffs {
			continue
		}
		out = append(out, ObjectDiff{string(document.KindOf(c.List)), c.Key, c.Was, string(c.Before), string(c.After)})
	}
	return out
}

// asked tells why a segment is asked, whom of it, and whether it has approved.
func (d *Desk) asked(x *draft, by *people.Who, n *approval.Need) Asked {
	out := Asked{Segment: n.Segment, Owners: append([]string{}, n.Owners...), Members: []string{}, Guard: n.Guard, Flows: []AskedFlow{}}
	writers := x.writers()
	for _, p := range d.people.Members(n.Owners) {
		if !writers[p.Name] {
			out.Members = append(out.Members, p.Called)
		}
	}
	for i := range n.Changes {
		if i == mostAskedFlows {
			out.More = len(n.Changes) - i
			break
		}
		out.Flows = append(out.Flows, askedFlow(x, &n.Changes[i]))
	}
	for i := range x.said {
		if a := &x.said[i]; a.Segment == n.Segment && a.Why == "" {
			v := d.approvalView(a)
			out.Approved = &v
		}
	}
	out.WhyNot = d.mayNotApprove(x, by, n)
	out.May = out.WhyNot == "" && out.Approved == nil
	return out
}

func askedFlow(x *draft, c *approval.Change) AskedFlow {
	f := AskedFlow{
		From: c.From, To: c.To, Sources: c.Sources, Destinations: c.Destinations, Services: x.snapshot.Words(space.Of(c.Services)),
		Before: markOf(c.Before), After: markOf(c.After), Imagined: c.Imagined, Was: []wording.Token{}, Will: []wording.Token{},
	}
	if !c.Imagined {
		w := x.snapshot.WitnessOf(c.Witness)
		f.Witness = &w
		if c.Before != nil {
			t := trace.Of(x.on.Judge, c.Witness)
			f.Was = wording.Sentence(&t)
		}
		if c.After != nil {
			t := trace.Of(x.snapshot.Judge, c.Witness)
			f.Will = wording.Sentence(&t)
		}
	}
	return f
}

func markOf(v *verdict.Verdict) *matrix.Mark {
	if v == nil {
		return nil
	}
	return &matrix.Mark{Outcome: v.Outcome, Contested: v.Contested}
}

// mayNotApprove says why somebody may not approve a draft for a segment; "" if they may.
func (d *Desk) mayNotApprove(x *draft, by *people.Who, n *approval.Need) string {
	switch {
	case by == nil:
		return "sign in"
	case !by.MayIn(people.Approver, n.Segment):
		return "this needs the role approver"
	case x.writers()[by.Name]:
		return "you wrote part of the draft, or settled a conflict in it"
	case len(n.Owners) > 0 && !by.Owns(n.Owners):
		return "only owners of segment " + n.Segment + " can approve: " + strings.Join(n.Owners, ", ")
	}
	return ""
}

// Approve approves a draft, of which somebody saw a version, for those segments that ask them.
func (d *Desk) Approve(ctx context.Context, by *people.Who, id, version int64) error {
	x, err := d.find(id)
	if err != nil {
		return err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if err := d.settle(ctx, x); err != nil {
		return err
	}
	if x.row.State != store.DraftReview {
		return &view.Problem{At: "draft", Message: fmt.Sprintf("draft %s is not in review", x.row.Name), Fix: "submit it for review first"}
	}
	if version != x.snapshot.Revision {
		return &store.StaleError{Based: version, Current: x.snapshot.Revision}
	}
	said := slices.Clone(x.said)
	var segments []string
	why := "it needs no approval that you can give"
	for i := range x.judge().needs {
		n := &x.judge().needs[i]
		if why = d.mayNotApprove(x, by, n); why != "" {
			continue
		}
		classes, err := json.Marshal(classesOf(n))
		if err != nil {
			return err
		}
		segments = append(segments, n.Segment)
		said = append(slices.DeleteFunc(said, func(a store.Approval) bool { return a.Segment == n.Segment && a.Person == by.Name }),
			store.Approval{Segment: n.Segment, Person: by.Name, At: d.clock(), Classes: classes})
	}
	if len(segments) == 0 {
		return &view.Problem{At: "draft", Message: "you cannot approve this draft: " + why, Fix: "see who is asked"}
	}
	if err := d.store.PutApprovals(context.WithoutCancel(ctx), id, said); err != nil {
		return err
	}
	x.said = said
	if err := d.look(ctx, x); err != nil {
		return err
	}
	d.Notices.Tell(ctx, d.authorsOf(x, by), notices.Notice{
		Kind: notices.Draft, Subject: fmt.Sprintf("Draft %s is approved for %s", x.row.Name, strings.Join(segments, ", ")), Body: "By " + by.Called + ".", Link: fmt.Sprintf("/changes/%d", id),
	})
	d.Events.tell(Event{Kind: EventDraft, Draft: id})
	return d.people.Audit().Add(ctx, by, "draft approved", x.row.Name, "for "+strings.Join(segments, ", "))
}

// approvedNeed is what was approved: the classes of change, and whether that was of the
// segment's owners or approval.
type approvedNeed struct {
	Guard   bool             `json:"guard"`
	Classes []approval.Class `json:"classes"`
}

func classesOf(n *approval.Need) approvedNeed {
	return approvedNeed{n.Guard, approval.Classes(n.Changes)}
}

// look takes back the approvals of classes of change that were not seen, in whatever state the
// draft is, and brings one in review of which everything is approved on. The lock of the draft
// is held.
func (d *Desk) look(ctx context.Context, x *draft) error {
	inReview := x.row.State == store.DraftReview || x.row.State == store.DraftApproved
	if x.closed() != nil || !inReview && len(x.said) == 0 {
		return nil
	}
	needs := x.judge().needs
	said := slices.Clone(x.said)
	turned := false
	for i := range said {
		a := &said[i]
		at := slices.IndexFunc(needs, func(n approval.Need) bool { return n.Segment == a.Segment })
		if a.Why != "" || at < 0 {
			continue
		}
		var had approvedNeed
		if err := json.Unmarshal(a.Classes, &had); err != nil {
			return err
		}
		n := &needs[at]
		known := approval.Index(had.Classes)
		fresh := n.Guard && !had.Guard || slices.ContainsFunc(n.Changes, func(c approval.Change) bool { return !known.Has(&c.Class) })
		switch {
		case fresh:
			a.Why, turned = "the draft changes other flows now", true
		case x.writers()[a.Person]:
			a.Why, turned = "the approver has changed the draft since", true
		}
	}
	if turned {
		if err := d.store.PutApprovals(context.WithoutCancel(ctx), x.row.ID, said); err != nil {
			return err
		}
		x.said = said
	}
	if !inReview {
		return nil
	}
	state := store.DraftReview
	if len(x.conflicts) == 0 && len(x.unapproved()) == 0 {
		state = store.DraftApproved
	}
	if state == x.row.State {
		return nil
	}
	row := x.row
	row.State = state
	if err := d.store.PutDraft(context.WithoutCancel(ctx), &row, nil); err != nil {
		return err
	}
	x.row = row
	return nil
}

// unapproved returns the segments that are asked and have not approved.
func (x *draft) unapproved() []string {
	var out []string
	for _, n := range x.judge().needs {
		if !slices.ContainsFunc(x.said, func(a store.Approval) bool { return a.Segment == n.Segment && a.Why == "" }) {
			out = append(out, n.Segment)
		}
	}
	return out
}

// within returns why somebody whose role is limited to segments may not do this: flows of
// others change.
func (d *Desk) within(by *people.Who, x *draft, role people.Role) error {
	if by.MayIn(role, "") { // it is not limited
		return nil
	}
	changed := x.judge().plan.Changed.Changes
	for i := range changed {
		for _, n := range []matrix.Node{changed[i].From, changed[i].To} {
			if n.Segment != "" && !by.MayIn(role, n.Segment) {
				return &view.Problem{At: "draft", Message: fmt.Sprintf("flows of segment %s change, and you have the role %s for other segments only", n.Segment, role), Fix: "ask somebody who has it for that segment"}
			}
		}
	}
	return nil
}

// refuseUnapproved refuses an edit past drafts which some segment must approve.
func refuseUnapproved(before, after *view.Snapshot, p *view.Plan) error {
	if before.Empty() {
		return nil // there is nothing yet that anybody guards
	}
	if !approval.Guarded(before.Estate) && !approval.Guarded(after.Estate) {
		return nil
	}
	needs := approval.Needed(before.Analysis, after.Analysis, p.Former)
	if len(needs) == 0 {
		return nil
	}
	var names []string
	for _, n := range needs {
		names = append(names, n.Segment)
	}
	return &view.Problem{
		At: "", Message: fmt.Sprintf("this needs the approval of the owners of %s", strings.Join(names, ", ")), Fix: "make the edit in a draft, and submit that for review",
	}
}

// Comment adds a comment on a draft, or on something of it.
func (d *Desk) Comment(ctx context.Context, by *people.Who, id int64, about, text string) error {
	if _, err := d.find(id); err != nil {
		return err
	}
	if strings.TrimSpace(text) == "" {
		return &view.Problem{At: "text", Message: "the comment is empty", Fix: "write something"}
	}
	if err := d.store.AddComment(ctx, id, &store.Comment{About: about, Author: by.Name, At: d.clock(), Text: text}); err != nil {
		return err
	}
	d.Events.tell(Event{Kind: EventDraft, Draft: id})
	return nil
}

// ResolveComment marks a comment as done with.
func (d *Desk) ResolveComment(ctx context.Context, by *people.Who, id, comment int64) error {
	if err := d.store.ResolveComment(ctx, id, comment, by.Called); err != nil {
		return err
	}
	d.Events.tell(Event{Kind: EventDraft, Draft: id})
	return nil
}

// authorsOf returns the names of those who wrote a draft, but for one.
func (d *Desk) authorsOf(x *draft, but *people.Who) []string {
	out := []string{x.row.Author}
	for i := range x.steps {
		out = append(out, x.steps[i].Author)
	}
	return slices.DeleteFunc(out, func(name string) bool { return name == but.Name })
}
