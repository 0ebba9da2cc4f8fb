package findings

import (
	"fmt"
	"net/netip"
	"strings"

	"bivium/core/estate"
	"bivium/core/paths"
)

// mostWaiting is how many prefixes of one attachment and segment are told one by
// one.
const mostWaiting = 12

// learned reports prefixes that wait, and those that are announced no longer.
func (f *finder) learned(a *estate.Attachment, ref []estate.Ref, relied *estate.Relied) {
	waiting := map[string][]netip.Prefix{}
	for _, l := range a.Learned {
		switch l.Status {
		case "withdrawn":
			f.note(LearnedGone, ref, "%s no longer announces prefix %s of segment %s%s", a.Network, l.Prefix, l.Segment, reliedBy(relied.By(l.Prefix)))
		case "waiting":
			waiting[l.Segment] = append(waiting[l.Segment], l.Prefix)
		}
	}
	told := map[string]bool{}
	for _, l := range a.Learned {
		list := waiting[l.Segment]
		switch {
		case l.Status != "waiting" || told[l.Segment]:
		case len(list) > mostWaiting:
			told[l.Segment] = true
			f.note(LearnedWaits, ref, "%d prefixes of segment %s, learned from %s, need approval: %s to %s", len(list), l.Segment, a.Network, list[0], list[len(list)-1])
		default:
			f.note(LearnedWaits, ref, "prefix %s of segment %s, learned from %s, needs approval%s", l.Prefix, l.Segment, a.Network, f.overlaps(a.Network, l))
		}
	}
}

// reliedBy says what refers to a prefix that is gone.
func reliedBy(refs []estate.Ref) string {
	if len(refs) == 0 {
		return ""
	}
	var names []string
	for _, r := range refs[:min(len(refs), 3)] {
		names = append(names, r.String())
	}
	if more := len(refs) - len(names); more > 0 {
		names = append(names, fmt.Sprintf("%d more", more))
	}
	return "; still used by " + strings.Join(names, ", ")
}

// overlaps says what of other networks a waiting prefix would overlap.
func (f *finder) overlaps(network string, l estate.Learned) string {
	net := f.Judge.Net
	segment := net.Segment(l.Segment)
	for i := range net.Subnets {
		s := &net.Subnets[i]
		if s.Segment == segment && segment != paths.None && s.Prefix.Overlaps(l.Prefix) && net.Networks[s.Network].Name != network {
			return fmt.Sprintf(", and overlaps subnet %s/%s (%s)", net.Networks[s.Network].Name, s.Name, s.Prefix)
		}
	}
	return ""
}
