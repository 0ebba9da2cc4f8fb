package suggest

import (
	"slices"

	"bivium/core/analysis"
	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/trace"
	"bivium/core/verdict"
)

// mostFixes is how many edits are tried for a finding.
const mostFixes = 24

// Fixes calls found with each edit that removes a finding of an analysis as soon as it is tried,
// until it returns false. Where a finding is about several things, edits that remove it for one of
// them are told too. pace is called now and then: nothing more is tried once it returns false.
// Cost: for each edit, comparing all flows and looking for findings again.
func Fixes(a *analysis.Analysis, f *findings.Finding, pace func() bool, found func(*Suggestion) bool) {
	had, identity := faultsOf(a.Judge), f.Identity()
	before := map[string]bool{}
	r := &fixer{of: f}
	for _, x := range a.Findings.All(func() {}) {
		before[x.Identity()] = true
		if x.Code == findings.Unenforced {
			for _, ref := range x.Refs {
				r.unenforced = append(r.unenforced, ref.Name)
			}
		}
	}
	first := &state{e: a.Judge.Estate, j: a.Judge}
	if f.Witness != nil {
		first.t = trace.Of(a.Judge, *f.Witness)
	}
	told := 0
	helps := func(s *Suggestion, partly bool) bool { // whether to go on
		if faulty(s.Analysis.Judge, had) {
			return true
		}
		for _, x := range s.Analysis.Findings.All(func() {}) {
			switch id := x.Identity(); {
			case id == identity:
				s.Left = x.Refs
				if !partly || !lessened(f, &x, s.Analysis.Judge) {
					return true
				}
			case !before[id]:
				s.Brings++
			}
		}
		told++
		return found(s) && told < mostTold
	}
	r.flow = &finder{q: &Question{Services: servicesOf(f)}, state: first}
	seen := map[string]bool{}
	for _, c := range r.candidates() {
		next := first.with(&c)
		key := keyOf(next)
		if seen[key] || slices.ContainsFunc(next.gone, func(ref estate.Ref) bool { return len(document.Referrers(next.e, ref)) > 0 }) {
			continue
		}
		if seen[key] = true; len(seen) > mostFixes {
			break
		}
		if !pace() || !helps(suggestion(a, next), f.Code == findings.Unenforced || f.Code == findings.Uninspectable || f.Code == findings.RailNotEnforced) {
			return
		}
	}
	for _, want := range r.wants() {
		goOn := true
		find(a, &Question{Flow: *f.Witness, Services: r.flow.q.Services, Want: want}, false, func(s *Suggestion) bool {
			goOn = pace() && helps(s, true)
			return goOn
		})
		if !goOn {
			return
		}
	}
}

// lessened reports whether a finding that stays is less after an edit: about fewer things, or, of a
// guardrail that is not enforced, not about its example any more.
func lessened(was, is *findings.Finding, j *verdict.Judge) bool {
	if was.Code == findings.RailNotEnforced {
		v := j.Judge(*was.Witness)
		return v.Reason != verdict.ReasonUnenforced
	}
	return slices.ContainsFunc(was.Refs, func(ref estate.Ref) bool { return !slices.Contains(is.Refs, ref) })
}

// servicesOf returns the services of a finding, as a rule may name them: that of its example, or
// any, where it is about all.
func servicesOf(f *findings.Finding) []estate.ServiceRef {
	if f.Witness == nil || f.Services.Complement().Empty() {
		return []estate.ServiceRef{{Term: estate.Term{AnyProtocol: true}}}
	}
	s := f.Witness.Service
	t := estate.Term{Protocol: s.Protocol, Ports: estate.Range{Lo: s.Port, Hi: s.Port}}
	_, t.SourcePorts = estate.PortsOf(s.Protocol)
	return []estate.ServiceRef{{Term: t}}
}

// wants returns the outcomes of the example that would leave nothing to report.
func (r *fixer) wants() []Want {
	switch r.of.Code {
	case findings.OneWay, findings.MeantUnrouted:
		return []Want{{}}
	case findings.NoFirewall, findings.FailedOpen:
		return []Want{{Action: estate.Inspect}, {Action: estate.Allow}}
	case findings.Uninspectable:
		return []Want{{Action: estate.Allow}}
	}
	return nil
}
