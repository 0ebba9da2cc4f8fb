package verdict

import (
	"bivium/core/estate"
	"bivium/core/membership"
	"bivium/core/paths"
)

// Decision is a verdict with everything that led to it.
type Decision struct {
	Flow        Flow
	Src, Dst    membership.Endpoint
	Lookup      Lookup
	Publication int // of a flow from the internet, or None
	Way         Way
	RuleSet     RuleSet
	Known       bool // whether M8.2 lets the flow have an intended verdict
	Settlement
}

// Decide finds the ends of a flow and the way between them, and settles it.
func (j *Judge) Decide(f Flow) Decision {
	d := Decision{Flow: f, Publication: paths.None}
	if d.Known = exists(&f) && j.findEnds(&d); !d.Known {
		return d
	}
	if d.Way.Path.Absence == paths.NoPublication {
		d.RuleSet = RuleSet{defaultAction: estate.Deny, unreleased: true}
	} else {
		d.RuleSet = j.RuleSetOf(&d.Src, &d.Dst)
	}
	d.Settlement = j.settle(&d.RuleSet, j.factsOf(&d.Way), &Query{Service: f.Service})
	return d
}

// exists reports whether there can be such a flow (M2.4).
func exists(f *Flow) bool {
	if f.Source == f.Destination || f.Source.Is4() != f.Destination.Is4() {
		return false
	}
	ports, sources := estate.PortsOf(f.Protocol)
	return f.Port <= ports.Hi && f.SourcePort <= sources.Hi
}

// findEnds finds both endpoints and the way between them. It returns false for
// a flow whose source is no endpoint, or whose destination is nothing.
func (j *Judge) findEnds(d *Decision) bool {
	if d.Flow.Segment == Internet {
		return j.findFromInternet(d)
	}
	segment := j.Net.Segment(d.Flow.Segment)
	if segment == paths.None {
		return false
	}
	var ok bool
	if d.Src, ok = j.Internal(segment, d.Flow.Source); !ok {
		return false
	}
	d.Dst, d.Lookup = j.Find(segment, d.Flow.Destination)
	if d.Lookup == LookupUnknown {
		return false
	}
	d.Way = j.WayTo(&d.Src, &d.Dst)
	if d.Lookup == LookupInternet {
		d.Dst = j.External(d.Dst.Addr, d.Way.Path.Exit)
	}
	return true
}

// findFromInternet finds the publication by which a flow from the internet
// comes in (M7.6).
func (j *Judge) findFromInternet(d *Decision) bool {
	if paths.Private(d.Flow.Source) {
		return false
	}
	for i := range j.Publications {
		p := &j.Publications[i]
		if d.Flow.Publication != "" && d.Flow.Publication != p.Name || !p.Services.Contains(d.Flow.Service) {
			continue
		}
		dst, ok := j.Internal(p.Segment, d.Flow.Destination)
		if !ok || !p.To.Contains(dst.Groups, true) {
			continue
		}
		d.Publication, d.Dst, d.Lookup = i, dst, LookupPublished
		// The source stands at that exit, whether the path goes on from it or not.
		d.Src = j.External(d.Flow.Source, p.Exit)
		d.Way = j.WayFrom(i, &d.Src, &d.Dst)
		return true
	}
	return j.findUnpublished(d)
}

// findUnpublished gives a flow from the internet that no publication lets in
// the first home by name that its destination has, so that it can be shown.
func (j *Judge) findUnpublished(d *Decision) bool {
	for s := range j.Net.Segments {
		dst, ok := j.Internal(s, d.Flow.Destination)
		if !ok {
			continue
		}
		d.Src, d.Dst, d.Lookup = j.External(d.Flow.Source, paths.None), dst, LookupPublished
		d.Way = unpublished(s)
		return true
	}
	return false
}
