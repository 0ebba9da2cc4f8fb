package app

import (
	"bivium/core/estate"
)

// Troubles is everything about the estate that wants to be looked at: faults,
// which keep it from being applied, and findings, which are legal and probably
// wrong.
type Troubles struct {
	Revision int64     `json:"revision"`
	Faults   []Trouble `json:"faults"`
	Findings []Trouble `json:"findings"`
}

// Trouble is one fault or finding.
type Trouble struct {
	Code     string        `json:"code"`
	Message  string        `json:"message"`
	Fix      string        `json:"fix"`  // of a fault
	Path     string        `json:"path"` // of a fault, in the document
	Refs     []Thing       `json:"refs"`
	Ways     []Mend        `json:"ways"`     // edits that would mend a fault
	Aside    *AsideView    `json:"aside"`    // what is stored of a thing that cannot be read; else nil
	Services *ServiceWords `json:"services"` // null for what is not about flows
	Witness  *Witness      `json:"witness"`  // likewise
}

// Thing is an object of the estate.
type Thing struct {
	Kind string `json:"kind"`
	Name string `json:"name"`
}

// maxThings is how many things a trouble names before a screen had better count.
const maxThings = 50

// Troubles returns the faults and findings of the estate. They are worked out
// once for each snapshot, when they are first asked for.
func (s *Snapshot) Troubles() *Troubles {
	s.troubles.once.Do(func() {
		t := &Troubles{Revision: s.Revision, Faults: []Trouble{}, Findings: []Trouble{}}
		r := remedies{e: s.Estate, net: s.Judge.Net()}
		for i := range s.Faults {
			f := &s.Faults[i]
			x := Trouble{Code: string(f.Code), Message: f.Message, Fix: f.Fix, Path: f.Path, Refs: things(f.Refs), Ways: r.of(f)}
			if i < len(s.Aside) { // they come first
				x.Aside = &AsideView{s.Aside[i].ID, string(s.Aside[i].Body)}
			}
			t.Faults = append(t.Faults, x)
		}
		for _, f := range s.Survey.Findings() {
			x := Trouble{Code: string(f.Code), Message: f.Message, Refs: things(f.Refs), Ways: []Mend{}}
			if f.Witness != nil {
				words, witness := s.words(f.Services), s.witnessOf(*f.Witness)
				x.Services, x.Witness = &words, &witness
			}
			t.Findings = append(t.Findings, x)
		}
		s.troubles.all = t
	})
	return s.troubles.all
}

func things(refs []estate.Ref) []Thing {
	out := []Thing{}
	for _, r := range refs[:min(len(refs), maxThings)] {
		out = append(out, Thing{string(r.Kind), r.Name})
	}
	return out
}
