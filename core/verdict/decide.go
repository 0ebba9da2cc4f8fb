package verdict

import (
	"bivium/core/estate"
	"bivium/core/paths"
)

// decision is a verdict with everything that led to it.
type decision struct {
	flow        Flow
	src, dst    Endpoint
	lookup      Lookup
	publication int // of a flow from the internet, or None
	way         Way
	stance      Stance
	known       bool // whether M8.2 lets the flow have an intended verdict
	settled
}

// decide finds the ends of a flow and the way between them, and settles it.
func (j *Judge) decide(f Flow) decision {
	d := decision{flow: f, publication: paths.None}
	if d.known = exists(&f) && j.findEnds(&d); !d.known {
		return d
	}
	if d.way.Path.Absence == paths.NoPublication {
		d.stance = Stance{silence: estate.Deny, unreleased: true}
	} else {
		d.stance = j.Stance(&d.src, &d.dst)
	}
	d.settled = j.settle(&d.stance, j.groundOf(&d.way), &query{service: f.Service})
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
func (j *Judge) findEnds(d *decision) bool {
	if d.flow.Segment == Internet {
		return j.findFromInternet(d)
	}
	segment := j.net.Segment(d.flow.Segment)
	if segment == paths.None {
		return false
	}
	var ok bool
	if d.src, ok = j.Internal(segment, d.flow.Source); !ok {
		return false
	}
	d.dst, d.lookup = j.Find(segment, d.flow.Destination)
	if d.lookup == LookupUnknown {
		return false
	}
	d.way = j.WayTo(&d.src, &d.dst)
	if d.lookup == LookupInternet {
		d.dst = j.External(d.dst.Addr, d.way.Path.Exit)
	}
	return true
}

// findFromInternet finds the publication by which a flow from the internet
// comes in (M7.6).
func (j *Judge) findFromInternet(d *decision) bool {
	if paths.Private(d.flow.Source) {
		return false
	}
	for i := range j.publications {
		p := &j.publications[i]
		if d.flow.Publication != "" && d.flow.Publication != p.name || !p.services.contains(d.flow.Service) {
			continue
		}
		dst, ok := j.Internal(p.segment, d.flow.Destination)
		if !ok || !p.to.contains(dst.groups, true) {
			continue
		}
		d.publication, d.dst, d.lookup = i, dst, LookupPublished
		// The source stands at that exit, whether the path goes on from it or not.
		d.src = j.External(d.flow.Source, p.exit)
		d.way = j.WayFrom(i, &d.src, &d.dst)
		return true
	}
	return j.findUnpublished(d)
}

// findUnpublished gives a flow from the internet that no publication lets in
// the first home by name that its destination has, so that it can be shown.
func (j *Judge) findUnpublished(d *decision) bool {
	for s := range j.net.Segments {
		dst, ok := j.Internal(s, d.flow.Destination)
		if !ok {
			continue
		}
		d.src, d.dst, d.lookup = j.External(d.flow.Source, paths.None), dst, LookupPublished
		d.way = unpublished(s)
		return true
	}
	return false
}
