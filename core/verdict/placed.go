package verdict

import (
	"maps"
	"slices"

	"bivium/core/estate"
)

// placedOtherwise returns the networks that an edit of the estate puts into other
// segments or attaches otherwise, and those that are peered with them, sorted;
// false if it does anything else.
func (j *Judge) placedOtherwise(e *estate.Estate) ([]int, bool) {
	was := j.estate
	if !sameBesidesPlaces(was, e) || len(was.Networks) != len(e.Networks) {
		return nil, false
	}
	touched := map[string]bool{}
	for i := range e.Networks {
		a, b := &was.Networks[i], &e.Networks[i]
		if !sameButPlace(a, b) {
			return nil, false
		}
		if a.Segment != b.Segment || !slices.Equal(a.Subnets, b.Subnets) {
			touched[a.Name] = true
		}
	}
	before, after := attachmentsOf(was), attachmentsOf(e)
	for i := range e.Networks {
		if name := e.Networks[i].Name; !touched[name] && !sameAttachments(before[name], after[name]) {
			touched[name] = true
		}
	}
	return j.numbersOf(touched, e.Peerings), true
}

// sameBesidesPlaces reports whether two estates share everything but networks and
// attachments, whatever those are.
func sameBesidesPlaces(a, b *estate.Estate) bool {
	as := *b
	as.Networks, as.Attachments = a.Networks, a.Attachments
	return sameBesidesPolicies(a, &as) && same(a.Policies, b.Policies)
}

// SameRules reports whether another judge is of an estate that differs in
// networks and attachments alone.
func (j *Judge) SameRules(other *Judge) bool { return sameBesidesPlaces(j.estate, other.estate) }

// numbersOf returns the numbers of some networks, and of their peers.
func (j *Judge) numbersOf(names map[string]bool, peerings []estate.Peering) []int {
	all := maps.Clone(names)
	for _, p := range peerings {
		for k, name := range p.Between {
			if names[name] {
				all[p.Between[1-k]] = true
			}
		}
	}
	var out []int
	for name := range all {
		out = append(out, j.net.Network(name))
	}
	slices.Sort(out)
	return out
}

// sameButPlace reports whether two networks differ in the segments of their
// subnets at most.
func sameButPlace(a, b *estate.Network) bool {
	return a.Name == b.Name && a.Kind == b.Kind && a.Enforcement == b.Enforcement && maps.Equal(a.Labels, b.Labels) && slices.Equal(a.Routes, b.Routes) &&
		slices.EqualFunc(a.Subnets, b.Subnets, func(x, y estate.Subnet) bool { return x.Name == y.Name && x.Prefix == y.Prefix })
}

func attachmentsOf(e *estate.Estate) map[string][]*estate.Attachment {
	out := make(map[string][]*estate.Attachment, len(e.Networks))
	for i := range e.Attachments {
		a := &e.Attachments[i]
		out[a.Network] = append(out[a.Network], a)
	}
	return out
}

func sameAttachments(a, b []*estate.Attachment) bool {
	return slices.EqualFunc(a, b, func(x, y *estate.Attachment) bool {
		return x == y || x.Hub == y.Hub && x.Cost == y.Cost && x.State == y.State && slices.Equal(x.Static, y.Static) &&
			slices.Equal(x.Learned, y.Learned) && slices.Equal(x.Translate, y.Translate) &&
			slices.Equal(x.Accepts, y.Accepts) && slices.Equal(x.Announces, y.Announces)
	})
}
