// Package suggest works out edits that would give one flow another outcome (Find), or remove a
// finding (Fixes). Candidates come from the account of the flow: what decides it, what stops it,
// and what could be written beside that; and from what a finding is about. Each is tried with the
// engine; what does not bring what was asked for, or brings a fault, is dropped; what is left is
// told with all that it changes besides.
package suggest

import (
	"math/big"
	"reflect"
	"slices"

	"bivium/core/analysis"
	"bivium/core/difference"
	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/recompile"
	"bivium/core/trace"
	"bivium/core/verdict"
)

// Want is the outcome that is asked for.
type Want struct {
	Action estate.Action // allow: allowed; inspect: inspected; deny: denied; "": routed, there and back
	Pool   string        // with inspect: by this pool; "" for any
}

// Question is a flow that should have another outcome.
type Question struct {
	Flow     verdict.Flow
	Services []estate.ServiceRef // to write into rules: they contain the flow's
	// Home is the segment that the destination is in, where it was named and not found by its
	// address in the source's segment; "" for that which the flow finds.
	Home string
	Want Want
}

// Code is what one step of a suggestion does.
type Code string

// The steps. Their arguments are named in Step.
const (
	InsertRule    Code = "insert-rule"    // Thing gets a rule before its rule At, or at its end
	ChangeRule    Code = "change-rule"    // rule At of Thing gets another action
	AddService    Code = "add-service"    // rule At of Thing gets the services too
	SwitchOff     Code = "switch-off"     // Thing does nothing any more
	NewPolicy     Code = "new-policy"     // Thing decides From, To
	NewShare      Code = "new-share"      // Thing lets From of one segment reach To of another
	WidenShare    Code = "widen-share"    // Thing gets To (owner) or From (guest) on its side
	NewGroup      Code = "new-group"      // Thing is one endpoint
	PassRulebook  Code = "pass-rulebook"  // rulebook Thing passes the flow, before its rule At
	OtherPool     Code = "other-pool"     // rule At of Thing inspects by Pool
	Attach        Code = "attach"         // network Thing is attached to hub To
	RouteToHub    Code = "route-to-hub"   // network Thing routes To to the hub
	OfferHub      Code = "offer-hub"      // network Thing offers its hub to To
	ServeExit     Code = "serve-exit"     // exit Thing serves segment To
	CarrySegment  Code = "carry-segment"  // link Thing carries segment To
	AnnounceRoute Code = "announce-route" // attachment Thing announces To to its network
	AcceptRoute   Code = "accept-route"   // attachment Thing accepts To from its network

	Remove        Code = "remove"         // Thing goes
	RemoveRule    Code = "remove-rule"    // rule At of Thing goes
	MoveRule      Code = "move-rule"      // rule At of Thing moves before rule To
	NestGroup     Code = "nest-group"     // group Thing is nested in group To
	UseGroup      Code = "use-group"      // policy Thing has group To in place of From
	RemoveRoute   Code = "remove-route"   // network Thing loses its route to To
	Enforce       Code = "enforce"        // network Thing enforces verdicts on paths that pass no hub, as To says
	FailClosed    Code = "fail-closed"    // pool Thing denies what it cannot inspect
	DenyDefault   Code = "deny-default"   // segment Thing denies what no policy matches
	AcceptLearned Code = "accept-learned" // attachment Thing accepts the learned prefix To of segment From; of From alone, all that wait
	RefuseLearned Code = "refuse-learned" // likewise
	ForgetLearned Code = "forget-learned" // likewise, one that is no longer announced
	Extend        Code = "extend"         // Thing, or its rule At, applies until the day To
	NextReview    Code = "next-review"    // Thing, or its rule At, is reviewed next on the day To
)

// Step is one change of a suggestion.
type Step struct {
	Code     Code
	Thing    estate.Ref
	At       int // the rule, from 1; 0 for none
	Action   estate.Action
	Pool     string
	Services []estate.ServiceRef
	From, To string
}

// Suggestion is an edit that brings the outcome that was asked for.
type Suggestion struct {
	Steps    []Step
	Edit     edit.Edit
	Verdict  verdict.Verdict // of the flow after it
	Analysis *analysis.Analysis
	Changed  difference.Difference
	// Others counts the pairs of addresses of which some service has another outcome besides
	// the flow that was asked about.
	Others *big.Int
	Broken []string // expectations that hold, and would not
	// Left is, of Fixes, what the finding is still about; nothing where it is gone. Brings is how
	// many other findings come.
	Left   []estate.Ref
	Brings int
}

// most bounds the work: how many candidates are judged, and how deep fixes of one thing after
// the other go (a path, then a policy, then a rulebook).
const (
	mostJudged = 160
	mostTold   = 8
	mostDeep   = 3
)

// state is an estate on the way to a suggestion.
type state struct {
	e     *estate.Estate
	j     *verdict.Judge
	steps []Step
	put   []estate.Ref
	gone  []estate.Ref
	t     trace.Trace
	asked bool // the outcome of one flow is asked for, which is no side effect
}

// candidate is what could be written to get further.
type candidate struct {
	steps []Step
	put   []any // pointers to things of package estate
	gone  []estate.Ref
}

// Find calls found with each suggestion as soon as it is tried, until it returns false. Those
// that need the fewest changes come first; their order by side effects is known when all are
// there, see Sort. Cost: judging one flow for each candidate, and comparing all flows for each
// suggestion.
func Find(a *analysis.Analysis, q *Question, found func(*Suggestion) bool) {
	find(a, q, true, found)
}

// find is Find; asked is whether the outcome of the flow is no side effect.
func find(a *analysis.Analysis, q *Question, asked bool, found func(*Suggestion) bool) {
	had := faultsOf(a.Judge)
	first := &state{e: a.Judge.Estate, j: a.Judge, t: trace.Of(a.Judge, q.Flow), asked: asked}
	if q.Want.met(&first.t) {
		return
	}
	queue := []*state{first}
	judged, told := 0, 0
	seen := map[string]bool{}
	for len(queue) > 0 {
		s := queue[0]
		queue = queue[1:]
		for _, c := range (&finder{q: q, state: s}).candidates() {
			if judged++; judged > mostJudged || told >= mostTold {
				return
			}
			next := s.with(&c)
			key := keyOf(next)
			if seen[key] {
				continue
			}
			seen[key] = true
			next.j, _ = recompile.Revise(s.j, next.e)
			next.t = trace.Of(next.j, q.Flow)
			switch {
			case q.Want.met(&next.t):
				if faulty(next.j, had) {
					continue
				}
				told++
				if !found(suggestion(a, next)) {
					return
				}
			case len(next.steps) < mostDeep+2 && further(&s.t, &next.t):
				queue = append(queue, next)
			}
		}
	}
}

// Sort puts suggestions into the order in which they are to be read: by expectations that break,
// by what is left of a finding, by how few other flows change, by findings that come, and by how
// little is written.
func Sort(list []*Suggestion) {
	slices.SortStableFunc(list, func(a, b *Suggestion) int { return Compare(a, b) })
}

// Compare compares two suggestions for Sort.
func Compare(a, b *Suggestion) int {
	if d := len(a.Broken) - len(b.Broken); d != 0 {
		return d
	}
	if d := len(a.Left) - len(b.Left); d != 0 {
		return d
	}
	if d := a.Others.Cmp(b.Others); d != 0 {
		return d
	}
	if d := a.Brings - b.Brings; d != 0 {
		return d
	}
	return len(a.Steps) - len(b.Steps)
}

// met reports whether a flow has the outcome that is wanted.
func (w *Want) met(t *trace.Trace) bool {
	v := &t.Verdict
	switch w.Action {
	case "":
		return v.Outcome != verdict.Unrouted
	case estate.Allow:
		return v.Outcome == verdict.Allowed
	case estate.Inspect:
		return v.Outcome == verdict.Inspected && (w.Pool == "" || slices.Contains(v.Pools, w.Pool))
	}
	return v.Outcome == verdict.Denied
}

// further reports whether something else stops a flow now than before.
func further(was, is *trace.Trace) bool {
	a, b := &was.Verdict, &is.Verdict
	return a.Reason != b.Reason || a.Outcome != b.Outcome || was.Path.Absence != is.Path.Absence || !slices.Equal(a.By, b.By)
}

// with returns the state after a candidate.
func (s *state) with(c *candidate) *state {
	e := *s.e
	next := &state{e: &e, asked: s.asked, steps: append(slices.Clone(s.steps), c.steps...), put: slices.Clone(s.put), gone: slices.Clone(s.gone)}
	for _, thing := range c.put {
		v := reflect.ValueOf(thing).Elem()
		kind := document.KindOfThing(v)
		ref := estate.Ref{Kind: kind, Name: document.NameOf(v)}
		document.PutThing(&e, kind, v)
		if !slices.Contains(next.put, ref) {
			next.put = append(next.put, ref)
		}
	}
	for _, ref := range c.gone {
		document.RemoveThing(&e, ref)
		next.gone = append(next.gone, ref)
	}
	estate.NameConnections(&e)
	if e.Day != "" {
		next.e = estate.AsOf(&e, e.Day)
	}
	return next
}

// keyOf tells states with the same changes.
func keyOf(s *state) string {
	key := ""
	for _, ref := range s.put {
		if v, ok := edit.In(s.e)(ref); ok {
			key += string(document.Body(v)) + "\x00"
		}
	}
	for _, ref := range s.gone {
		key += ref.String() + "\x00"
	}
	return key
}

func faultsOf(j *verdict.Judge) map[string]bool {
	out := map[string]bool{}
	for _, f := range append(estate.CheckWiring(j.Estate), findings.ShareFaults(j)...) {
		out[f.Identity()] = true
	}
	return out
}

// faulty reports whether an edit brings a fault. Workloads and subnets stay where they are.
func faulty(j *verdict.Judge, had map[string]bool) bool {
	for id := range faultsOf(j) {
		if !had[id] {
			return true
		}
	}
	return false
}

// suggestion works out all that a state changes.
func suggestion(a *analysis.Analysis, s *state) *Suggestion {
	out := &Suggestion{Steps: s.steps, Verdict: s.t.Verdict, Others: new(big.Int)}
	for _, ref := range s.put {
		v, _ := edit.In(s.e)(ref)
		out.Edit.Operations = append(out.Edit.Operations, edit.PutOf(a.Judge.Estate, ref, document.Body(v)))
	}
	for _, ref := range s.gone {
		out.Edit.Operations = append(out.Edit.Operations, edit.DeleteOf(a.Judge.Estate, ref))
	}
	out.Analysis, out.Changed = a.Revise(s.e)
	for i := range out.Changed.Changes {
		if c := &out.Changed.Changes[i]; c.Outcome() {
			out.Others.Add(out.Others, c.Pairs)
		}
	}
	if s.asked && out.Others.Sign() > 0 {
		out.Others.Sub(out.Others, big.NewInt(1))
	}
	held := map[string]bool{}
	for _, h := range a.Expectations.All() {
		held[h.Expectation.Name] = h.Holds
	}
	for _, h := range out.Analysis.Expectations.All() {
		if held[h.Expectation.Name] && !h.Holds {
			out.Broken = append(out.Broken, h.Expectation.Name)
		}
	}
	return out
}
