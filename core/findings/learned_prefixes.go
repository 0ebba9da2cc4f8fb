package findings

import (
	"net/netip"
	"strconv"

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
			f.note(LearnedGone, ref, "", append([]string{a.Network, l.Prefix.String(), l.Segment}, reliedBy(relied.By(l.Prefix))...)...)
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
			f.note(LearnedWaits, ref, "many", strconv.Itoa(len(list)), l.Segment, a.Network, list[0].String(), list[len(list)-1].String())
		default:
			f.note(LearnedWaits, ref, "", append([]string{l.Prefix.String(), l.Segment, a.Network}, f.overlaps(a.Network, l)...)...)
		}
	}
}

// reliedBy returns what refers to a prefix that is gone.
func reliedBy(refs []estate.Ref) []string {
	var names []string
	for _, r := range refs {
		names = append(names, r.String())
	}
	return names
}

// overlaps returns the network, name and prefix of a subnet of another network that a
// waiting prefix would overlap; nothing if there is none.
func (f *finder) overlaps(network string, l estate.Learned) []string {
	net := f.Judge.Net
	segment := net.Segment(l.Segment)
	for i := range net.Subnets {
		s := &net.Subnets[i]
		if s.Segment == segment && segment != paths.None && s.Prefix.Overlaps(l.Prefix) && net.Networks[s.Network].Name != network {
			return []string{net.Networks[s.Network].Name, s.Name, s.Prefix.String()}
		}
	}
	return nil
}
