package view

import (
	"fmt"
	"math/big"
	"slices"
	"strings"

	"bivium/core/estate"
	"bivium/core/matrix"
	"bivium/core/paths"
	"bivium/core/query"
	"bivium/core/space"
	"bivium/core/trace"
	"bivium/core/verdict"
	"bivium/internal/wording"
)

// Question is the question line: from where, to where, on what.
type Question struct {
	From string `json:"from" query:"from"`
	To   string `json:"to" query:"to"`
	On   string `json:"on" query:"on"`
}

// Answer is what happens to every flow that a question is about.
type Answer struct {
	Question Question        `json:"question"`
	Revision int64           `json:"revision"`
	Marks    []matrix.Mark   `json:"marks"` // those of the most flows first
	Lines    []Line          `json:"lines"` // services that fare alike, with who settles them
	Sentence []wording.Token `json:"sentence"`
	Trace    trace.Trace     `json:"trace"` // the road of the first flow of the first line
}

// Line is some services that fare alike.
type Line struct {
	Services ServiceWords `json:"services"`
	Parts    []Part       `json:"parts"`
	More     int          `json:"more"` // how many verdicts there are beside those
}

// maxParts is how many verdicts a line tells one by one.
const maxParts = 12

// ServiceWords is a set of services as a person writes it.
type ServiceWords struct {
	Name   string   `json:"name"`   // of a service that is just this, or ""
	Terms  []string `json:"terms"`  // the set, or
	Except []string `json:"except"` // everything but these, where that is shorter
}

// Part is the flows of a line that get one verdict.
type Part struct {
	Verdict  verdict.Verdict `json:"verdict"`
	Pairs    string          `json:"pairs"` // how many pairs of addresses, exact; "" if beyond use
	From     int             `json:"from"`  // how many workloads are among the sources
	To       int             `json:"to"`    // how many workloads are among the destinations
	Sentence []wording.Token `json:"sentence"`
	Witness  Witness         `json:"witness"`
}

// Witness is one concrete flow, as a question that can be asked.
type Witness struct {
	From        string `json:"from"`
	To          string `json:"to"`
	On          string `json:"on"`
	SourcePort  int    `json:"sport"`
	Publication string `json:"publication"`
	Source      string `json:"source"`      // the workload, or the address
	Destination string `json:"destination"` // likewise
}

// Ask answers a question, exactly, for every flow that it is about.
func (s *Snapshot) Ask(q Question) (*Answer, error) {
	from, err := s.findEnd("from", q.From)
	if err != nil {
		return nil, err
	}
	to, err := s.findEnd("to", q.To)
	if err != nil {
		return nil, err
	}
	terms, err := s.FindTerms(q.On)
	if err != nil {
		return nil, err
	}
	sv := s.Matrix.Refine(terms)
	atoms, _ := sv.AtomsOf(terms)
	set, err := s.narrow(from, to)
	if err != nil {
		return nil, err
	}
	a := &Answer{Question: q, Revision: s.Revision}
	for _, l := range query.Detail(sv, from.set, set, atoms, maxParts) {
		a.Lines = append(a.Lines, s.line(&l))
	}
	if len(a.Lines) > 0 {
		a.Marks = sv.Cell(from.set, set)
		if atoms.Count() < uint(sv.Atoms.Len()) {
			a.Marks = marksOf(a.Lines)
		}
		first := &a.Lines[0].Parts[0]
		a.Trace = trace.Of(s.Judge, s.flowOf(&first.Witness))
	} else if err := s.askDirectly(a, from, to, terms); err != nil {
		return nil, err
	}
	a.Sentence = s.summary(a)
	return a, nil
}

// narrow returns what a destination is for the segments that the source is in
// (M6.4): one address may live in several.
func (s *Snapshot) narrow(from, to *end) (matrix.Set, error) {
	if from.internet && to.internet {
		return nil, &Problem{At: "to", Message: "source and destination are both on the internet", Fix: "choose one endpoint inside the estate"}
	}
	shown := to.literal && s.Judge.Shows() // a segment may see others by the address
	if !to.single() || len(to.set) < 2 && !shown {
		return to.set, nil
	}
	for _, m := range from.set {
		if c := s.Matrix.Class(m.Class); c.Internal() {
			found, how := s.Judge.Find(c.End.Segment, to.addresses[0])
			if shown && how == verdict.LookupUnknown {
				return nil, nil
			}
			if found.Internal() {
				if class, ok := query.ClassAt(s.Matrix, found.Segment, found.Addr); ok {
					return matrix.Set{{Class: class, Only: found.Addr}}, nil
				}
			}
		}
	}
	return to.set, nil
}

// askDirectly answers for a single flow that lies in no class: to an address
// that nothing has, or from an address to itself.
func (s *Snapshot) askDirectly(a *Answer, from, to *end, terms []estate.Term) error {
	if len(from.set) == 0 || !to.single() {
		return &Problem{At: "to", Message: fmt.Sprintf("no flow is possible from %s to %s", from.text, to.text), Fix: "the addresses are of different families, or identical"}
	}
	f := verdict.Flow{Segment: verdict.Internet, Destination: to.addresses[0]}
	c := s.Matrix.Class(from.set[0].Class)
	f.Source = c.End.Addr
	if from.set[0].Only.IsValid() {
		f.Source = from.set[0].Only
	}
	if c.Internal() {
		f.Segment = s.Judge.Net.Segments[c.End.Segment]
	}
	protocol, sport, dport, _ := space.OfTerms(terms).Witness()
	f.Service = verdict.Service{Protocol: protocol, SourcePort: sport, Port: dport}
	a.Trace = trace.Of(s.Judge, f)
	part := Part{Verdict: a.Trace.Verdict, Pairs: "1", Witness: s.WitnessOf(f), Sentence: wording.Sentence(&a.Trace)}
	a.Marks = []matrix.Mark{{Outcome: part.Verdict.Outcome, Contested: part.Verdict.Contested}}
	a.Lines = []Line{{Services: s.Words(space.OfTerms(terms)), Parts: []Part{part}}}
	return nil
}

func marksOf(lines []Line) []matrix.Mark {
	var marks []matrix.Mark
	for i := len(lines) - 1; i >= 0; i-- {
		for _, p := range lines[i].Parts {
			m := matrix.Mark{Outcome: p.Verdict.Outcome, Contested: p.Verdict.Contested}
			if !slices.Contains(marks, m) {
				marks = append(marks, m)
			}
		}
	}
	return marks
}

// FindTerms returns the terms of services written as names and terms with
// commas between.
func (s *Snapshot) FindTerms(text string) ([]estate.Term, error) {
	var terms []estate.Term
	for word := range strings.SplitSeq(text, ",") {
		word = strings.ToLower(strings.TrimSpace(word))
		if word == "" {
			return nil, &Problem{At: "on", Message: "the service is missing", Fix: "enter a service, a term like tcp/443, or any"}
		}
		if strings.Contains(word, " from ") || strings.HasPrefix(word, "proto/") { // as answers write them
			some, err := estate.ParseTermWords(word)
			if err != nil {
				return nil, &Problem{At: "on", Message: err.Error(), Fix: ""}
			}
			terms = append(terms, some...)
			continue
		}
		ref, err := estate.ParseServiceRef(word)
		if err != nil {
			return nil, &Problem{At: "on", Message: err.Error(), Fix: ""}
		}
		if ref.Name == "" {
			terms = append(terms, ref.Term)
			continue
		}
		i := slices.IndexFunc(s.Estate.Services, func(v estate.Service) bool { return v.Name == ref.Name })
		if i < 0 {
			return nil, &Problem{At: "on", Message: fmt.Sprintf("unknown service %q", word), Fix: s.nearService(word)}
		}
		terms = append(terms, s.Estate.Services[i].Terms...)
	}
	return terms, nil
}

func (s *Snapshot) nearService(word string) string {
	known := map[string]bool{}
	for _, v := range s.Estate.Services {
		known[v.Name] = true
	}
	if near := estate.Nearest(word, known); near != "" {
		return "did you mean " + near + "?"
	}
	return "enter a service, or a term like tcp/443"
}

func (s *Snapshot) line(l *query.Line) Line {
	out := Line{Services: s.Words(l.Services), More: l.More}
	parts := slices.Clone(l.Parts)
	slices.SortStableFunc(parts, func(a, b query.Part) int { return nowhere(a) - nowhere(b) })
	for _, p := range parts {
		trace := trace.Of(s.Judge, p.Witness)
		out.Parts = append(out.Parts, Part{Verdict: p.Verdict, Pairs: Grouped(p.Pairs), From: p.From, To: p.To, Sentence: wording.Sentence(&trace), Witness: s.WitnessOf(p.Witness)})
	}
	return out
}

// nowhere orders what nothing answers to behind what somebody decided.
func nowhere(p query.Part) int {
	if p.Verdict.Reason == verdict.ReasonUnknown {
		return 1
	}
	return 0
}

// Grouped writes a number with thin spaces between groups of three digits.
// Beyond a million million, where IPv6 and the internet lead, it says nothing.
func Grouped(n *big.Int) string {
	text := n.String()
	if len(text) > 13 {
		return ""
	}
	var b strings.Builder
	for i, c := range text {
		if i > 0 && (len(text)-i)%3 == 0 {
			b.WriteRune('\u202f')
		}
		b.WriteRune(c)
	}
	return b.String()
}

// Words writes a set of services by its name, its terms, or what it leaves out.
func (s *Snapshot) Words(set space.Services) ServiceWords {
	w := ServiceWords{Terms: []string{}, Except: []string{}}
	if words, allBut := set.Short(); allBut {
		w.Except = words
	} else {
		w.Terms = words
	}
	for i := range s.Index.named {
		if v := &s.Index.named[i]; v.set.Equal(set) {
			w.Name = v.name
		}
	}
	return w
}

func (s *Snapshot) WitnessOf(f verdict.Flow) Witness {
	words := WordsOf(s.Judge, f)
	w := Witness{
		From: words.From, To: words.To, On: words.Service,
		SourcePort: int(f.SourcePort), Publication: f.Publication, Source: f.Source.String(), Destination: f.Destination.String(),
	}
	if f.SourcePort == space.AnyPort { // as from any client
		w.On, _, _ = strings.Cut(w.On, " from ")
	}
	if i := s.Judge.Net.Segment(f.Segment); i != paths.None {
		if p, ok := s.Judge.Internal(i, f.Source); ok && s.Judge.WorkloadOf(&p) != "" {
			w.Source = s.Judge.WorkloadOf(&p)
		}
		if p, how := s.Judge.Find(i, f.Destination); how != verdict.LookupUnknown && s.Judge.WorkloadOf(&p) != "" {
			w.Destination = s.Judge.WorkloadOf(&p)
		}
	}
	return w
}

// flowOf is the inverse of witnessOf.
func (s *Snapshot) flowOf(w *Witness) verdict.Flow {
	f, err := s.ParseFlow(w.From, w.To, w.On, w.SourcePort, w.Publication)
	if err != nil {
		panic("app: a witness cannot be read back: " + err.Error())
	}
	return f
}

// summary says in one sentence what happens to all flows of a question.
func (s *Snapshot) summary(a *Answer) []wording.Token {
	if len(a.Lines) == 1 && len(a.Lines[0].Parts) == 1 {
		return a.Lines[0].Parts[0].Sentence
	}
	outcomes := map[matrix.Mark]bool{}
	for _, l := range a.Lines {
		for _, p := range l.Parts {
			outcomes[matrix.Mark{Outcome: p.Verdict.Outcome}] = true
		}
	}
	if len(outcomes) == 1 {
		return wording.Say(wording.OutcomeWord(a.Lines[0].Parts[0].Verdict.Outcome) + ": all flows, for different reasons.")
	}
	out := wording.Say("It depends: ")
	for i, m := range a.Marks {
		switch {
		case i > 0 && i == len(a.Marks)-1:
			out = append(out, wording.Say(" and ")...)
		case i > 0:
			out = append(out, wording.Say(", ")...)
		}
		word := string(m.Outcome)
		if m.Contested {
			word += " (contested)"
		}
		out = append(out, wording.Say(word)...)
	}
	return append(out, wording.Say(", by service and address.")...)
}
