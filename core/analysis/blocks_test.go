package analysis

import (
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/difference"
	"bivium/core/matrix"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
)

// has reports whether an endpoint is among a selection, read as a person would read its
// words in either estate.
func has(s *difference.Selection, j *verdict.Judge, segment string, a netip.Addr) bool {
	if (s.Node.Kind == matrix.NodeInternet) != (segment == verdict.Internet) || s.Node.Kind != matrix.NodeInternet && s.Node.Segment != segment {
		return false
	}
	if s.All {
		return true
	}
	in := slices.ContainsFunc(s.Prefixes, func(p netip.Prefix) bool { return p.Contains(a) })
	if p, ok := j.Internal(max(0, j.Net.Segment(segment)), a); ok && segment != verdict.Internet {
		in = in || slices.Contains(s.Networks, j.Net.Networks[p.Home.Network].Name)
		for _, g := range p.Groups {
			in = in || slices.Contains(s.Groups, j.GroupNames()[g])
		}
	}
	return in != s.AllBut
}

// TestBlocksAreExact reads the words of what an edit changes: a flow that changed is in
// exactly one block, in which both verdicts are those of the flow; one that did not is in
// none; and the witness of each block is one of its flows.
func TestBlocksAreExact(t *testing.T) {
	t.Parallel()
	all, _ := estates(t)
	wants := meet.Wants{"a flow in a block": 300, "a flow in none": 300, "IPv6 alone": 5, "both families": 5, "a group": 20, "prefixes": 20, "all but some": 5, "a publication": 3}
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		e := all[rapid.IntRange(0, len(all)-1).Draw(t, "estate")]
		next := mutate(t, e)
		if rapid.Bool().Draw(t, "drawn") {
			e = drawValid(t)
			if next, _ = draw.Edit(t, e); !sound(next) {
				return
			}
		}
		before, after := verdict.New(e), verdict.New(next)
		d := difference.Compare(matrix.New(before), matrix.New(after))
		type told struct {
			*difference.Change
			difference.Block
		}
		var blocks []told
		for i := range d.Changes {
			for _, b := range d.Blocks(&d.Changes[i]) {
				blocks = append(blocks, told{&d.Changes[i], b})
				met.If(b.Family == difference.IPv6, "IPv6 alone")
				met.If(b.Family == difference.BothFamilies, "both families")
				met.If(len(b.From.Groups)+len(b.To.Groups) > 0, "a group")
				met.If(len(b.From.Prefixes)+len(b.To.Prefixes) > 0, "prefixes")
				met.If(b.From.AllBut || b.To.AllBut, "all but some")
				met.If(d.Changes[i].Publication != "", "a publication")
			}
		}
		// in reports whether the flow from an endpoint to another is in a block.
		in := func(b *told, from string, src netip.Addr, to string, dst netip.Addr, s verdict.Service) bool {
			family := difference.IPv6
			if src.Is4() {
				family = difference.IPv4
			}
			return (b.Family == family || b.Family == difference.BothFamilies) && b.Change.Services.Contains(s.Protocol, s.SourcePort, s.Port) &&
				has(&b.Block.From, after, from, src) && has(&b.Block.To, after, to, dst)
		}
		for i := range blocks {
			b := &blocks[i]
			w := b.Block.Witness()
			to, own := destination(before, after, &w, b.Change)
			require.True(t, in(b, w.Segment, w.Source, to, own, w.Service), "%v is not from %v to %v on %v", w, b.Block.From.Words(), b.Block.To.Words(), b.Change.Services.Words())
		}
		ends := draw.Ends(next)
		for range 40 {
			segment := rapid.SampledFrom(next.Segments).Draw(t, "segment").Name
			src, dst := rapid.SampledFrom(ends).Draw(t, "source"), rapid.SampledFrom(ends).Draw(t, "destination")
			p := rapid.SampledFrom(draw.Ports()).Draw(t, "service")
			f := verdict.Flow{Segment: segment, Source: src, Destination: dst, Service: verdict.Service{Protocol: p.Protocol, SourcePort: p.Source, Port: p.Dest}}
			to, own, same := leadsTo(before, after, &f)
			if !same || src == dst || src.Is4() != dst.Is4() {
				continue // it leads to another endpoint than before: that is two changes
			}
			was, is := before.Judge(f), after.Judge(f)
			count := 0
			for i := range blocks {
				if b := &blocks[i]; in(b, segment, src, to, own, f.Service) {
					count++
					require.True(t, difference.SameVerdict(b.Before, &was) && difference.SameVerdict(b.After, &is), "%v went from %v to %v, and is told from %v to %v", f, was, is, b.Before, b.After)
				}
			}
			want := 0
			if !difference.SameVerdict(&was, &is) {
				want = 1
			}
			met.If(want == 1, "a flow in a block")
			met.If(want == 0, "a flow in none")
			require.Equal(t, want, count, "%v went from %v to %v", f, was, is)
		}
	})
}

// leadsTo returns the endpoint that a flow leads to in two estates, by its segment, the
// internet's if it is outside, and its own address; false if that is not one and the same,
// or its source is not there in both.
func leadsTo(before, after *verdict.Judge, f *verdict.Flow) (segment string, own netip.Addr, same bool) {
	a, b := before.Net.Segment(f.Segment), after.Net.Segment(f.Segment)
	if a < 0 || b < 0 {
		return "", own, false
	}
	_, was := before.Internal(a, f.Source)
	_, is := after.Internal(b, f.Source)
	x, how := before.Find(a, f.Destination)
	y, now := after.Find(b, f.Destination)
	if !was || !is || how == verdict.LookupUnknown || now == verdict.LookupUnknown || x.Addr != y.Addr || x.Internal() != y.Internal() {
		return "", own, false
	}
	if !x.Internal() {
		return verdict.Internet, y.Addr, true
	}
	segment = after.Net.Segments[y.Segment]
	return segment, y.Addr, before.Net.Segments[x.Segment] == segment
}

// destination returns the segment and the own address of the destination of a witness.
func destination(before, after *verdict.Judge, w *verdict.Flow, c *difference.Change) (string, netip.Addr) {
	if c.To.Kind == matrix.NodeInternet {
		return verdict.Internet, w.Destination
	}
	j := after
	if c.After == nil {
		j = before
	}
	if from := j.Net.Segment(w.Segment); from >= 0 {
		if p, _ := j.Find(from, w.Destination); p.Internal() {
			return j.Net.Segments[p.Segment], p.Addr
		}
	}
	return c.To.Segment, w.Destination
}
