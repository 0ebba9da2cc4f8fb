package wiring

import (
	"cmp"
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
	if err := b.segment("segment", b.edit.Segment); err != nil {
		return err
	}
	if err := cmp.Or(b.prefixes("prefix", b.edit.Prefix), b.prefixes("outside", b.edit.Outside)); err != nil {
		return err
	}
	shown := estate.Translation{Inside: b.edit.Prefix, Outside: b.edit.Outside, Segment: b.edit.Segment}
	s.Show = append(slices.DeleteFunc(s.Show, b.translatesSame), shown)
	return nil
}

func (b *bench) unshow() error {
	s, err := b.share()
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(s.Show, b.translatesSame) {
		return b.missing("prefix", "other address for", b.edit.Prefix.String())
	}
	s.Show = slices.DeleteFunc(s.Show, b.translatesSame)
	return nil
}
