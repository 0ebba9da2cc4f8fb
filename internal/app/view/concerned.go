package view

import (
	"slices"
	"strings"

	"bivium/core/estate"
	"bivium/core/verdict"
)

// segmentFinder finds the segments that issues concern. Many issues name the same things.
type segmentFinder struct {
	snapshot *Snapshot
	known    map[Thing][]string
}

// concerned returns the segments of the things that an issue names, and of the ends of its
// example flow, if it has one, sorted.
func (f *segmentFinder) concerned(x *Issue, example *verdict.Flow) []string {
	out := []string{}
	for _, r := range x.Refs {
		out = append(out, f.of(r)...)
	}
	if net := f.snapshot.Judge.Net; example != nil && example.Segment != verdict.Internet {
		out = append(out, example.Segment)
		if end, _ := f.snapshot.Judge.Find(net.Segment(example.Segment), example.Destination); end.Internal() {
			out = append(out, net.Segments[end.Segment])
		}
	}
	slices.Sort(out)
	out = slices.Compact(out)
	return slices.DeleteFunc(out, func(name string) bool { return f.snapshot.Judge.Net.Segment(name) < 0 })
}

func (f *segmentFinder) of(t Thing) []string {
	list, known := f.known[t]
	if !known {
		list = f.find(t)
		f.known[t] = list
	}
	return list
}

// find returns the segments of a thing; none for one that belongs to no segment.
func (f *segmentFinder) find(t Thing) []string {
	e := f.snapshot.Estate
	switch estate.Kind(t.Kind) {
	case estate.KindAttachment:
		network, _, _ := strings.Cut(t.Name, "@")
		return f.snapshot.segmentsAround(string(estate.KindNetwork), network)
	case estate.KindPeering:
		a, b, _ := strings.Cut(t.Name, "–")
		return slices.Concat(f.snapshot.segmentsAround(string(estate.KindNetwork), a), f.snapshot.segmentsAround(string(estate.KindNetwork), b))
	case estate.KindPolicy:
		for i := range e.Policies {
			if p := &e.Policies[i]; p.Name == t.Name {
				return slices.Concat(f.scope(p.Segments), p.FromSegments.Names, p.ToSegments.Names)
			}
		}
	case estate.KindShare:
		for i := range e.Shares {
			if s := &e.Shares[i]; s.Name == t.Name {
				return []string{s.Owner.Segment, s.Guest.Segment}
			}
		}
	case estate.KindExit:
		for i := range e.Exits {
			if e.Exits[i].Name == t.Name {
				return e.Exits[i].Segments
			}
		}
	}
	return f.snapshot.segmentsAround(t.Kind, t.Name)
}

// scope returns the segments that a scope names: all of them, where it is all.
func (f *segmentFinder) scope(s estate.Scope) []string {
	if !s.All {
		return s.Names
	}
	var all []string
	for i := range f.snapshot.Estate.Segments {
		all = append(all, f.snapshot.Estate.Segments[i].Name)
	}
	return all
}
