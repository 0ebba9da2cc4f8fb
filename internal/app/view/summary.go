package view

import (
	"cmp"
	"slices"
	"strings"

	"bivium/core/document"
	"bivium/core/trace"
	"bivium/internal/wording"
)

// Summary is what is loaded, and the names that rules are written with.
type Summary struct {
	Name        string                   `json:"name"`
	Description string                   `json:"description"`
	Revision    int64                    `json:"revision"`
	Segments    []Named                  `json:"segments"`
	Groups      []Named                  `json:"groups"`
	Services    []Named                  `json:"services"`
	Pools       []Named                  `json:"pools"`
	Counts      map[string]int           `json:"counts"`
	Faults      []wording.DescribedFault `json:"faults"`
	Empty       bool                     `json:"empty"` // nothing is written in it yet, but for its name
}

// Empty reports whether nothing is written in the estate yet, but for its name.
func (s *Snapshot) Empty() bool { return document.Empty(s.Estate) }

// Named is a name with what tells it from others.
type Named struct {
	Name string `json:"name"`
	Hint string `json:"hint"`
}

// Summary returns what is loaded. Lists are sorted by name.
func (s *Snapshot) Summary() *Summary {
	e := s.Estate
	out := &Summary{
		Name: e.Name, Description: e.Description, Revision: s.Revision, Segments: []Named{}, Groups: []Named{}, Services: []Named{}, Pools: []Named{},
		Faults: wording.Faults(s.Faults), Empty: s.Empty(),
		Counts: map[string]int{
			"accounts": len(e.Accounts), "hubs": len(e.Hubs), "networks": len(e.Networks), "workloads": len(e.Workloads), "groups": len(e.Groups),
			"policies": len(e.Policies), "shares": len(e.Shares), "segments": len(e.Segments), "observed": 0,
		},
	}
	for i := range e.Accounts {
		if e.Accounts[i].Observed {
			out.Counts["observed"]++
		}
	}
	for _, x := range e.Segments {
		out.Segments = append(out.Segments, Named{x.Name, cmp.Or(x.Description, "segment")})
	}
	for i := range e.Groups {
		out.Groups = append(out.Groups, Named{e.Groups[i].Name, GroupHint(&e.Groups[i])})
	}
	for _, c := range s.Index.services {
		if c.Text != "any" {
			out.Services = append(out.Services, Named{c.Text, c.Hint})
		}
	}
	for _, x := range e.Pools {
		out.Pools = append(out.Pools, Named{x.Name, cmp.Or(x.Description, "pool")})
	}
	for _, list := range [][]Named{out.Segments, out.Groups, out.Services, out.Pools} {
		slices.SortFunc(list, func(a, b Named) int { return strings.Compare(a.Name, b.Name) })
	}
	return out
}

// Road is the whole road of one flow.
type Road struct {
	Revision int64           `json:"revision"`
	Trace    trace.Trace     `json:"trace"`
	Sentence []wording.Token `json:"sentence"`
}

// Road returns the road of the one flow that ParseFlow understands.
func (s *Snapshot) Road(from, to, service string, sport int, publication string) (*Road, error) {
	f, err := s.ParseFlow(from, to, service, sport, publication)
	if err != nil {
		return nil, err
	}
	t := trace.Of(s.Judge, f)
	wording.Explain(&t)
	return &Road{s.Revision, t, wording.Sentence(&t)}, nil
}
