package app

import (
	"fmt"
	"hash/fnv"
	"strconv"

	"bivium/core/estate"
)

// Troubles is everything about the estate that wants to be looked at: faults,
// which keep it from being applied, and findings, which are legal and probably
// wrong.
type Troubles struct {
	Faults   []Trouble
	Findings []Trouble
}

// TroublePage is a part of the troubles, by their kinds: faults first, as one kind.
type TroublePage struct {
	Revision int64         `json:"revision"` // of the estate that they are of
	Counting bool          `json:"counting"` // the estate was edited since: it is being looked at
	Faults   int           `json:"faults"`   // in all
	Findings int           `json:"findings"`
	Kinds    []TroubleKind `json:"kinds"`
	Asked    *Trouble      `json:"asked"` // the one of the key that was asked for; null if there is none
}

// TroubleKind is the troubles of one code, or all faults.
type TroubleKind struct {
	Code  string    `json:"code"` // of findings; "fault" for faults
	Count int       `json:"count"`
	List  []Trouble `json:"list"` // those of the page
}

// How many troubles of each kind a page has: one of all kinds, and one of a single kind.
const (
	firstTroubles = 25
	moreTroubles  = 200
)

// troublePage returns the first troubles of each kind; or of one kind, by its code, those
// from a place on. With them comes the trouble of a key, if there is one.
func (s *Snapshot) troublePage(code string, from int, key string) *TroublePage {
	t := s.Troubles()
	out := &TroublePage{Revision: s.Revision, Faults: len(t.Faults), Findings: len(t.Findings), Kinds: []TroubleKind{}}
	count := firstTroubles
	if code != "" {
		count = moreTroubles
	}
	at := map[string]int{}
	take := func(kind string, x *Trouble) {
		if key != "" && x.Key == key {
			out.Asked = x
		}
		if code != "" && kind != code {
			return
		}
		i, known := at[kind]
		if !known {
			i = len(out.Kinds)
			at[kind] = i
			out.Kinds = append(out.Kinds, TroubleKind{Code: kind, List: []Trouble{}})
		}
		k := &out.Kinds[i]
		if k.Count >= from && len(k.List) < count {
			k.List = append(k.List, *x)
		}
		k.Count++
	}
	for i := range t.Faults {
		take("fault", &t.Faults[i])
	}
	for i := range t.Findings {
		take(t.Findings[i].Code, &t.Findings[i])
	}
	return out
}

// Trouble is one fault or finding.
type Trouble struct {
	Key      string        `json:"key"` // what it says decides it, so that it stays when others come and go
	Code     string        `json:"code"`
	Message  string        `json:"message"`
	Fix      string        `json:"fix"`  // of a fault
	Path     string        `json:"path"` // of a fault, in the document
	Refs     []Thing       `json:"refs"`
	Remedies []Remedy      `json:"remedies"` // edits that would fix a fault
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
func (s *Snapshot) Troubles() *Troubles { return s.troubles(noPace) }

func (s *Snapshot) troubles(pace func()) *Troubles {
	s.later.looked.Do(func() {
		t := &Troubles{}
		r := remedies{e: s.Estate, net: s.Judge.Net}
		for i := range s.Faults {
			f := &s.Faults[i]
			x := Trouble{Code: string(f.Code), Message: f.Message, Fix: f.Fix, Path: f.Path, Refs: things(f.Refs), Remedies: r.of(f)}
			if i < len(s.Aside) { // they come first
				x.Aside = &AsideView{s.Aside[i].ID, string(s.Aside[i].Body)}
			}
			t.Faults = append(t.Faults, x)
		}
		for _, f := range s.Analysis.Findings.All(pace) {
			x := Trouble{Code: string(f.Code), Message: f.Message, Refs: things(f.Refs), Remedies: []Remedy{}}
			if f.Witness != nil {
				words, witness := s.words(f.Services), s.witnessOf(*f.Witness)
				x.Services, x.Witness = &words, &witness
			}
			t.Findings = append(t.Findings, x)
		}
		alike := map[string]int{}
		for _, list := range [][]Trouble{t.Faults, t.Findings} {
			for i := range list {
				list[i].Key = keyOf(&list[i], alike)
			}
		}
		s.later.troubles = t
		s.later.counts = countsOf(t)
	})
	return s.later.troubles
}

// countsOf counts the faults and findings that name each thing.
func countsOf(t *Troubles) map[Thing]int {
	counts := map[Thing]int{}
	for _, list := range [][]Trouble{t.Faults, t.Findings} {
		for i := range list {
			for _, x := range list[i].Refs {
				counts[x]++
			}
		}
	}
	return counts
}

// keyOf returns the key of a trouble. Of those that say the same, each has its own.
func keyOf(x *Trouble, alike map[string]int) string {
	hash := fnv.New32a()
	_, _ = hash.Write([]byte(x.Message))
	key := x.Code + "." + strconv.FormatUint(uint64(hash.Sum32()), 36)
	if alike[key]++; alike[key] > 1 {
		return fmt.Sprint(key, ".", alike[key])
	}
	return key
}

func things(refs []estate.Ref) []Thing {
	out := []Thing{}
	for _, r := range refs[:min(len(refs), maxThings)] {
		out = append(out, Thing{string(r.Kind), r.Name})
	}
	return out
}
