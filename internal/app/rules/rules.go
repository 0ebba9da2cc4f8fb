// Package rules is what one needs to write rules: all of their objects, one of them ready to be
// edited, and what is worth knowing of it while it is written.
package rules

import (
	"encoding/json"
	"fmt"

	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/internal/app/view"
	"bivium/internal/store"
)

// Rules is everything that says what should be, as the document has it, and the names that it
// can refer to.
type Rules struct {
	Revision     int64                `json:"revision"`
	Segments     []estate.Segment     `json:"segments"`
	Exits        []estate.Exit        `json:"exits"`
	Publications []estate.Publication `json:"publications"`
	Services     []estate.Service     `json:"services"`
	Groups       []estate.Group       `json:"groups"`
	Pools        []estate.Pool        `json:"pools"`
	Rulebooks    []estate.Rulebook    `json:"rulebooks"`
	Policies     []estate.Policy      `json:"policies"`
	Shares       []estate.Share       `json:"shares"`
	Expectations []estate.Expectation `json:"expectations"`
	Hubs         []string             `json:"hubs"`
	Networks     []RuleNetwork        `json:"networks"`
	Problems     map[string]int       `json:"problems"` // by kind and name, with a blank between: faults and findings
	Counting     bool                 `json:"counting"` // problems are not counted yet
}

// RuleNetwork is a network with the subnets that groups may list.
type RuleNetwork struct {
	Name    string   `json:"name"`
	Subnets []string `json:"subnets"` // network/subnet
}

// All returns everything of a snapshot that says what should be. Cost: the size of that.
func All(s *view.Snapshot) *Rules {
	e := s.Estate
	out := &Rules{
		Revision: s.Revision, Segments: view.OrNone(e.Segments), Exits: view.OrNone(e.Exits), Publications: view.OrNone(e.Publications), Services: view.OrNone(e.Services),
		Groups: view.OrNone(e.Groups), Pools: view.OrNone(e.Pools), Rulebooks: view.OrNone(e.Rulebooks), Policies: view.OrNone(e.Policies), Shares: view.OrNone(e.Shares),
		Expectations: view.OrNone(e.Expectations), Hubs: []string{}, Networks: []RuleNetwork{}, Problems: map[string]int{},
	}
	for i := range e.Hubs {
		out.Hubs = append(out.Hubs, e.Hubs[i].Name)
	}
	for i := range e.Networks {
		n := RuleNetwork{e.Networks[i].Name, []string{}}
		for _, x := range e.Networks[i].Subnets {
			n.Subnets = append(n.Subnets, n.Name+"/"+x.Name)
		}
		out.Networks = append(out.Networks, n)
	}
	counted := s.Counted()
	out.Counting = counted == nil
	for thing, n := range counted {
		switch estate.Kind(thing.Kind) {
		case estate.KindSegment, estate.KindExit, estate.KindPublication, estate.KindService, estate.KindGroup, estate.KindPool,
			estate.KindRulebook, estate.KindPolicy, estate.KindShare, estate.KindExpectation:
			out.Problems[thing.Kind+" "+thing.Name] = n
		}
	}
	return out
}

// Unfinished reports whether more will be known soon.
func (r *Rules) Unfinished() bool { return r.Counting }

// Object is one thing of the estate, ready to be edited.
type Object struct {
	Revision int64           `json:"revision"`
	Kind     estate.Kind     `json:"kind"`
	Name     string          `json:"name"`
	Object   json.RawMessage `json:"object"` // as the document has it
	Base     string          `json:"base"`   // what an edit of it is made on
	UsedBy   []view.Thing    `json:"usedBy"`
	About    *About          `json:"about"`
}

// Open returns one thing of a snapshot, store.ErrNotFound if there is none. Cost: the names of
// its kind in the estate.
func Open(s *view.Snapshot, ref estate.Ref) (*Object, error) {
	thing, ok := edit.In(s.Estate)(ref)
	if !ok {
		return nil, fmt.Errorf("%s: %w", ref, store.ErrNotFound)
	}
	return &Object{
		Revision: s.Revision, Kind: ref.Kind, Name: ref.Name, Object: document.Body(thing), Base: document.Base(thing),
		UsedBy: view.Things(document.Referrers(s.Estate, ref)), About: AboutThing(s, ref),
	}, nil
}
