package view

import (
	"fmt"
	"hash/fnv"
	"maps"
	"slices"
	"strconv"
	"strings"

	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/internal/wording"
)

// Issues is everything about the estate that wants to be looked at: faults,
// which keep it from being applied, and findings, which are legal and probably
// wrong.
type Issues struct {
	Faults   []Issue
	Findings []Issue
	found    []findings.Finding // what Findings tell of, in their order
}

// FindingOf returns the finding of a key, nil for none.
func (s *Snapshot) FindingOf(key string) *findings.Finding {
	t := s.Issues()
	at := slices.IndexFunc(t.Findings, func(x Issue) bool { return x.Key == key })
	if at < 0 {
		return nil
	}
	return &t.found[at]
}

// IssuePage is a part of the issues, by their kinds: faults first, as one kind, and then
// those that matter most.
type IssuePage struct {
	Revision   int64       `json:"revision"` // of the estate that they are of
	Counting   bool        `json:"counting"` // the estate was edited since: it is being looked at
	Faults     int         `json:"faults"`   // in all
	Findings   int         `json:"findings"`
	Severities []Tally     `json:"severities"` // of those that fit but for their severity
	Segments   []Tally     `json:"segments"`   // of all; one issue may concern several
	Owners     []Tally     `json:"owners"`     // of all: people and teams that own segments that they concern
	Kinds      []IssueKind `json:"kinds"`      // of those that fit
	Asked      *Issue      `json:"asked"`      // the one of the key that was asked for; null if there is none
}

// Tally is how many issues there are of a name.
type Tally struct {
	Name  string `json:"name"`
	Count int    `json:"count"`
}

// IssueKind is the issues of one code, or all faults.
type IssueKind struct {
	Code     string  `json:"code"` // of findings; "fault" for faults
	Severity string  `json:"severity"`
	Count    int     `json:"count"`
	List     []Issue `json:"list"` // those of the page
}

// IssueFilter tells which issues are wanted. What is empty does not narrow them.
type IssueFilter struct {
	Code     string // a kind
	Severity string // fault, high, medium or low
	Segment  string // that they concern
	Owner    string // of a segment that they concern
	Find     string // part of the message, in any case
	From     int    // the place among those of a kind from which on they are wanted
	Key      string // of one that is wanted with them
}

// How many issues of each kind a page has: one of all kinds, and one of a single kind.
const (
	firstIssues = 25
	moreIssues  = 200
)

// severityFault is the severity of faults.
const severityFault = "fault"

// severities are those of issues, those that matter most first.
var severities = []string{severityFault, string(findings.High), string(findings.Medium), string(findings.Low)}

func severityOf(kind string) string {
	if kind == "fault" {
		return severityFault
	}
	return string(findings.FindingCode(kind).Severity())
}

// IssuePage returns the first issues of each kind that fit; or of one kind, by its code,
// those from a place on. With them comes the issue of a key, if there is one.
func (s *Snapshot) IssuePage(filter *IssueFilter) *IssuePage {
	t := s.Issues()
	p := &issuePager{filter: filter, find: strings.ToLower(filter.Find), count: firstIssues, at: map[string]int{}, bySeverity: map[string]int{}, bySegment: map[string]int{}, byOwner: map[string]int{}, owners: map[string][]string{}}
	for i := range s.Estate.Segments {
		p.owners[s.Estate.Segments[i].Name] = s.Estate.Segments[i].Owners
	}
	p.page = &IssuePage{Revision: s.Revision, Faults: len(t.Faults), Findings: len(t.Findings), Severities: []Tally{}, Segments: []Tally{}, Owners: []Tally{}, Kinds: []IssueKind{}}
	if filter.Code != "" {
		p.count = moreIssues
	}
	for i := range t.Faults {
		p.take("fault", &t.Faults[i])
	}
	for i := range t.Findings {
		p.take(t.Findings[i].Code, &t.Findings[i])
	}
	rank := func(k *IssueKind) int { return slices.Index(severities, k.Severity) }
	slices.SortStableFunc(p.page.Kinds, func(a, b IssueKind) int { return rank(&a) - rank(&b) })
	for _, name := range severities {
		p.page.Severities = append(p.page.Severities, Tally{name, p.bySeverity[name]})
	}
	for _, segment := range s.Estate.Segments {
		if n := p.bySegment[segment.Name]; n > 0 {
			p.page.Segments = append(p.page.Segments, Tally{segment.Name, n})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(p.byOwner)) {
		p.page.Owners = append(p.page.Owners, Tally{name, p.byOwner[name]})
	}
	return p.page
}

// issuePager puts issues on a page.
type issuePager struct {
	filter                *IssueFilter
	find                  string
	count                 int // of each kind
	page                  *IssuePage
	at                    map[string]int // by kind: its place
	bySeverity, bySegment map[string]int
	byOwner               map[string]int
	owners                map[string][]string // by segment
}

// ownersOf returns who owns the segments that an issue concerns, each once.
func (p *issuePager) ownersOf(x *Issue) []string {
	var out []string
	for _, segment := range x.Segments {
		for _, owner := range p.owners[segment] {
			if !slices.Contains(out, owner) {
				out = append(out, owner)
			}
		}
	}
	return out
}

func (p *issuePager) take(kind string, x *Issue) {
	f := p.filter
	if f.Key != "" && x.Key == f.Key {
		p.page.Asked = x
	}
	for _, segment := range x.Segments {
		p.bySegment[segment]++
	}
	owners := p.ownersOf(x)
	for _, owner := range owners {
		p.byOwner[owner]++
	}
	if f.Owner != "" && !slices.Contains(owners, f.Owner) {
		return
	}
	if f.Segment != "" && !slices.Contains(x.Segments, f.Segment) || p.find != "" && !strings.Contains(strings.ToLower(x.Message), p.find) {
		return
	}
	severity := severityOf(kind)
	p.bySeverity[severity]++
	if f.Severity != "" && severity != f.Severity || f.Code != "" && kind != f.Code {
		return
	}
	i, known := p.at[kind]
	if !known {
		i = len(p.page.Kinds)
		p.at[kind] = i
		p.page.Kinds = append(p.page.Kinds, IssueKind{Code: kind, Severity: severity, List: []Issue{}})
	}
	k := &p.page.Kinds[i]
	if k.Count >= f.From && len(k.List) < p.count {
		k.List = append(k.List, *x)
	}
	k.Count++
}

// Issue is one fault or finding.
type Issue struct {
	Key      string        `json:"key"` // what it is about decides it, so that it stays when others come and go, and when words change
	Code     string        `json:"code"`
	Message  string        `json:"message"`
	Fix      string        `json:"fix"`  // of a fault
	Path     string        `json:"path"` // of a fault, in the document
	Refs     []Thing       `json:"refs"`
	Segments []string      `json:"segments"` // that it concerns, sorted
	Remedies []Remedy      `json:"remedies"` // edits that would fix a fault
	Aside    *AsideView    `json:"aside"`    // what is stored of a thing that cannot be read; else nil
	Services *ServiceWords `json:"services"` // null for what is not about flows
	Witness  *Witness      `json:"witness"`  // likewise
	identity string
}

// Thing is an object of the estate.
type Thing struct {
	Kind string `json:"kind"`
	Name string `json:"name"`
}

// MaxThings is how many things an issue names before a screen had better count.
const MaxThings = 50

// Issues returns the faults and findings of the estate. They are worked out
// once for each snapshot, when they are first asked for.
func (s *Snapshot) Issues() *Issues { return s.FindIssues(NoPace) }

func (s *Snapshot) FindIssues(pace func()) *Issues {
	s.Later.looked.Do(func() {
		t := &Issues{}
		segments := segmentFinder{snapshot: s, known: map[Thing][]string{}}
		r := Remedies{E: s.Estate, Net: s.Judge.Net}
		for i := range s.Faults {
			f := &s.Faults[i]
			told := wording.Fault(f)
			x := Issue{Code: string(f.Code), Message: told.Message, Fix: told.Fix, Path: f.Path, identity: f.Identity(), Refs: Things(f.Refs), Remedies: r.of(f)}
			if i < len(s.Aside) { // they come first
				x.Aside = &AsideView{s.Aside[i].ID, string(s.Aside[i].Body)}
			}
			x.Segments = segments.concerned(&x, nil)
			t.Faults = append(t.Faults, x)
		}
		t.found = s.Analysis.Findings.All(pace)
		for i := range t.found {
			f := &t.found[i]
			x := Issue{Code: string(f.Code), Message: wording.Finding(f), Refs: Things(f.Refs), Remedies: []Remedy{}, identity: f.Identity()}
			if f.Witness != nil {
				words, witness := s.Words(f.Services), s.WitnessOf(*f.Witness)
				x.Services, x.Witness = &words, &witness
			}
			x.Segments = segments.concerned(&x, f.Witness)
			t.Findings = append(t.Findings, x)
		}
		alike := map[string]int{}
		for _, list := range [][]Issue{t.Faults, t.Findings} {
			for i := range list {
				list[i].Key = keyOf(&list[i], alike)
			}
		}
		s.Later.issues = t
		s.Later.counts = countsOf(t)
	})
	return s.Later.issues
}

// countsOf counts the faults and findings that name each thing.
func countsOf(t *Issues) map[Thing]int {
	counts := map[Thing]int{}
	for _, list := range [][]Issue{t.Faults, t.Findings} {
		for i := range list {
			for _, x := range list[i].Refs {
				counts[x]++
			}
		}
	}
	return counts
}

// keyOf returns the key of an issue, by what it is about. Of those that are the same, each
// has its own.
func keyOf(x *Issue, alike map[string]int) string {
	hash := fnv.New32a()
	_, _ = hash.Write([]byte(x.identity))
	key := x.Code + "." + strconv.FormatUint(uint64(hash.Sum32()), 36)
	if alike[key]++; alike[key] > 1 {
		return fmt.Sprint(key, ".", alike[key])
	}
	return key
}

func Things(refs []estate.Ref) []Thing {
	out := []Thing{}
	for _, r := range refs[:min(len(refs), MaxThings)] {
		out = append(out, Thing{string(r.Kind), r.Name})
	}
	return out
}

// Unfinished reports whether there will be more to say of the same snapshot.
func (p *IssuePage) Unfinished() bool { return p.Counting }

// AsideView is a stored thing that could not be read when the database was opened.
type AsideView struct {
	ID   int64  `json:"id"`
	Body string `json:"body"` // as it was stored
}
