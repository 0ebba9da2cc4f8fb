package paths

import "slices"

// Failure is one thing that fails: a hub with all that is at it, a link, or an
// attachment, by number; the others are None.
type Failure struct{ Hub, Link, Attachment int }

// Without returns the network side without what fails. It shares with n all
// that stays as it is. Cost: the numbers of networks and attachments, and for a
// hub or a link hubs³.
func (n *Net) Without(f Failure) *Net {
	next := *n
	if f.Hub == None && f.Link == None && f.Attachment == None {
		return &next
	}
	next.Attachments, next.Networks = slices.Clone(n.Attachments), slices.Clone(n.Networks)
	for i := range next.Attachments {
		a := &next.Attachments[i]
		if !a.Up || i != f.Attachment && a.Hub != f.Hub {
			continue
		}
		a.Up = false
		x := &next.Networks[a.Network]
		x.Attachments = slices.DeleteFunc(slices.Clone(x.Attachments), func(k int) bool { return k == i })
		if x.own == nil {
			continue
		}
		if &next.Subnets[0] == &n.Subnets[0] {
			next.Subnets = slices.Clone(n.Subnets)
		}
		for _, k := range x.Subnets {
			s := &next.Subnets[k]
			s.through = slices.DeleteFunc(slices.Clone(s.through), func(k int) bool { return k == i })
		}
	}
	if f.Attachment != None {
		return &next
	}
	next.Links, next.Exits = slices.Clone(n.Links), slices.Clone(n.Exits)
	for i := range next.Links {
		l := &next.Links[i]
		l.Up = l.Up && i != f.Link && (f.Hub == None || l.A != f.Hub && l.B != f.Hub)
	}
	for i := range next.Exits {
		next.Exits[i].Up = next.Exits[i].Up && (f.Hub == None || next.Exits[i].Hub != f.Hub)
	}
	next.mesh()
	return &next
}
