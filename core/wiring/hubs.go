package wiring

import (
	"fmt"
	"slices"

	"bivium/core/estate"
)

func (b *bench) link() error {
	for _, end := range [][2]string{{"hub", b.edit.Hub}, {"other", b.edit.Other}} {
		if err := b.hub(end[0], end[1]); err != nil {
			return err
		}
	}
	if b.edit.Hub == b.edit.Other {
		return b.fault("other", "a link connects two different hubs", "choose another hub")
	}
	if b.edit.Cost < 1 {
		return b.fault("cost", "the cost of a link must be 1 or more", "use 1 or more")
	}
	mine(b, "links", &b.e.Links)
	if i := b.linkAt(); i >= 0 {
		b.e.Links[i].Cost = b.edit.Cost
		return nil
	}
	b.e.Links = append(b.e.Links, estate.Link{Between: [2]string{b.edit.Hub, b.edit.Other}, Cost: b.edit.Cost, State: "up"})
	return nil
}

func (b *bench) linkAt() int {
	return slices.IndexFunc(b.e.Links, func(l estate.Link) bool {
		return l.Between == [2]string{b.edit.Hub, b.edit.Other} || l.Between == [2]string{b.edit.Other, b.edit.Hub}
	})
}

func (b *bench) unlink() error {
	i := b.linkAt()
	if i < 0 {
		return b.missing("other", "link", b.edit.Hub+"-"+b.edit.Other)
	}
	mine(b, "links", &b.e.Links)
	b.e.Links = slices.Delete(b.e.Links, i, i+1)
	return nil
}

func (b *bench) openExit() error {
	if err := b.hub("hub", b.edit.Hub); err != nil {
		return err
	}
	for _, s := range b.edit.Segments {
		if err := b.segment("segments", s); err != nil {
			return err
		}
	}
	if len(b.edit.Segments) == 0 {
		return b.fault("segments", "an exit must serve at least one segment", "choose at least one segment")
	}
	if err := estate.CheckName(b.edit.Name); err != nil {
		return b.fault("name", err.Error(), "use a short name in lower case")
	}
	mine(b, "exits", &b.e.Exits)
	x := estate.Exit{Name: b.edit.Name, Hub: b.edit.Hub, Segments: slices.Clone(b.edit.Segments), State: "up"}
	if i := slices.IndexFunc(b.e.Exits, func(o estate.Exit) bool { return o.Name == x.Name }); i >= 0 {
		x.State, x.Description = b.e.Exits[i].State, b.e.Exits[i].Description
		b.e.Exits[i] = x
		return nil
	}
	b.e.Exits = append(b.e.Exits, x)
	return nil
}

func (b *bench) closeExit() error {
	i := slices.IndexFunc(b.e.Exits, func(x estate.Exit) bool { return x.Name == b.edit.Name })
	if i < 0 {
		return b.missing("name", "exit", b.edit.Name)
	}
	mine(b, "exits", &b.e.Exits)
	b.e.Exits = slices.Delete(b.e.Exits, i, i+1)
	return nil
}

// fresh checks a name that a new thing is to have.
func (b *bench) fresh(kind string, taken bool) error {
	if err := estate.CheckName(b.edit.Name); err != nil {
		return b.fault("name", err.Error(), "use a short name in lower case")
	}
	if taken {
		return b.fault("name", fmt.Sprintf("%s %s already exists", kind, b.edit.Name), "choose another name")
	}
	return nil
}

func (b *bench) addHub() error {
	if err := b.fresh("hub", b.hub("name", b.edit.Name) == nil); err != nil {
		return err
	}
	mine(b, "hubs", &b.e.Hubs)
	b.e.Hubs = append(b.e.Hubs, estate.Hub{Name: b.edit.Name, Account: b.edit.Account, Region: b.edit.Region})
	return nil
}

func (b *bench) dropHub() error {
	if err := b.hub("name", b.edit.Name); err != nil {
		return err
	}
	mine(b, "hubs", &b.e.Hubs)
	b.e.Hubs = slices.DeleteFunc(b.e.Hubs, func(h estate.Hub) bool { return h.Name == b.edit.Name })
	return nil
}

func (b *bench) addSegment() error {
	if err := b.fresh("segment", b.segment("name", b.edit.Name) == nil); err != nil {
		return err
	}
	mine(b, "segments", &b.e.Segments)
	b.e.Segments = append(b.e.Segments, estate.Segment{Name: b.edit.Name, Default: estate.Deny, Approval: estate.ApproveNone})
	return nil
}

func (b *bench) dropSegment() error {
	if err := b.segment("name", b.edit.Name); err != nil {
		return err
	}
	mine(b, "segments", &b.e.Segments)
	b.e.Segments = slices.DeleteFunc(b.e.Segments, func(s estate.Segment) bool { return s.Name == b.edit.Name })
	return nil
}
