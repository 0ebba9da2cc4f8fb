package wiring

import (
	"fmt"
	"net/netip"
	"slices"

	"bivium/core/estate"
)

// learned returns an attachment to work on, and where it has the learned prefix.
func (b *bench) learned() (*estate.Attachment, int, error) {
	same := func(l estate.Learned) bool { return l.Prefix == b.edit.Prefix && l.Segment == b.edit.Segment }
	a, err := b.attachmentWith(func(a *estate.Attachment) bool { return slices.ContainsFunc(a.Learned, same) })
	if err != nil {
		return nil, 0, err
	}
	i := slices.IndexFunc(a.Learned, same)
	if i < 0 {
		return nil, 0, b.missing("prefix", "learned prefix", b.edit.Prefix.String())
	}
	return a, i, nil
}

func (b *bench) learn() error {
	a, i, err := b.learned()
	if err != nil {
		return err
	}
	if !slices.Contains([]string{"accepted", "waiting", "refused"}, b.edit.Status) {
		return b.fault("status", fmt.Sprintf("%q is not a status", b.edit.Status), "use accepted, waiting or refused")
	}
	a.Learned[i].Status = b.edit.Status
	return nil
}

func (b *bench) forget() error {
	a, i, err := b.learned()
	if err != nil {
		return err
	}
	a.Learned = slices.Delete(a.Learned, i, i+1)
	return nil
}

// usualLimit is how many prefixes a router may bring if nobody says otherwise.
const usualLimit = 1000

func (b *bench) hear() error {
	a, err := b.attachment()
	if err != nil {
		return err
	}
	if err := b.segment("segment", b.edit.Segment); err != nil {
		return err
	}
	switch {
	case !b.edit.Router.IsValid():
		return b.fault("router", "the router address is missing", "enter the address that the router connects from")
	case b.edit.AS < 1:
		return b.fault("as", "an AS number must be 1 or more", "enter the router's AS number")
	case b.edit.Limit < 0:
		return b.fault("limit", "a prefix limit must be 1 or more", "enter the largest number of prefixes to accept")
	}
	for _, p := range b.edit.May {
		if err := b.prefixes("may", p); err != nil {
			return err
		}
	}
	s := estate.Session{Router: b.edit.Router, AS: b.edit.AS, Segment: b.edit.Segment, May: b.edit.May, Limit: b.edit.Limit}
	if s.Limit == 0 {
		s.Limit = usualLimit
	}
	if i := slices.IndexFunc(a.Sessions, func(x estate.Session) bool { return x.Router == s.Router }); i >= 0 {
		a.Sessions[i] = s
		return nil
	}
	a.Sessions = append(a.Sessions, s)
	return nil
}

func (b *bench) quiet() error {
	same := func(s estate.Session) bool { return s.Router == b.edit.Router }
	a, err := b.attachmentWith(func(a *estate.Attachment) bool { return slices.ContainsFunc(a.Sessions, same) })
	if err != nil {
		return err
	}
	i := slices.IndexFunc(a.Sessions, same)
	if i < 0 {
		return b.missing("router", "session of router", b.edit.Router.String())
	}
	a.Sessions = slices.Delete(a.Sessions, i, i+1)
	return nil
}

func (b *bench) speak() error {
	if err := b.hub("name", b.edit.Name); err != nil {
		return err
	}
	if b.edit.Speaker != "" {
		if _, err := netip.ParseAddr(b.edit.Speaker); err != nil {
			return b.fault("speaker", fmt.Sprintf("%q is not an address", b.edit.Speaker), "use an address of this machine")
		}
		if b.edit.AS < 1 {
			return b.fault("as", "an AS number must be 1 or more", "enter the hub's AS number")
		}
	}
	mine(b, "hubs", &b.e.Hubs)
	h := &b.e.Hubs[slices.IndexFunc(b.e.Hubs, func(h estate.Hub) bool { return h.Name == b.edit.Name })]
	h.AS, h.Speaker = b.edit.AS, b.edit.Speaker
	return nil
}
