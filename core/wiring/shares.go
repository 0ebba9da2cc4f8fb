package wiring

import (
	"slices"

	"bivium/core/estate"
)

// share returns the share that an edit names, to work on.
func (b *bench) share() (*estate.Share, error) {
	i := slices.IndexFunc(b.e.Shares, func(s estate.Share) bool { return s.Name == b.edit.Name })
	if i < 0 {
		return nil, b.missing("name", "share", b.edit.Name)
	}
	mine(b, "shares", &b.e.Shares)
	s := &b.e.Shares[i]
	if key := "share " + s.Name; !b.own[key] {
		b.own[key] = true
		s.Show = slices.Clone(s.Show)
	}
	return s, nil
}

func (b *bench) show() error {
	s, err := b.share()
	if err != nil {
		return err
	}
	return b.putOutside(&s.Show)
}

func (b *bench) unshow() error {
	s, err := b.share()
	if err != nil {
		return err
	}
	return b.dropOutside(&s.Show, "other address for")
}
