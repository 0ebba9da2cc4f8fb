package targets

import (
	"fmt"
	"maps"
	"net/netip"
	"reflect"
	"slices"
	"strings"

	"go4.org/netipx"

	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/core/native/proposal"
	"bivium/core/native/reader"
	"bivium/internal/app/view"
)

// TakeOver is the edit that makes the estate say what targets do otherwise, and what of that no
// edit here can say.
type TakeOver struct {
	Edit *edit.Edit
	Left []string
}

// TakeOver returns the edit that makes the estate say the same as what was read: the routes and
// peerings that accounts have, and, for what flows do otherwise even then, a policy that allows
// for each set that passes, and one that denies for each that does not. Policies speak of labels,
// networks, subnets and prefixes as groups, made where there is none yet.
func (b *Book) TakeOver(readings []Reading) (*TakeOver, error) {
	wiring, err := b.tables(readings)
	if err != nil {
		return nil, err
	}
	if len(wiring.Operations) > 0 {
		done, err := edit.Apply(b.now.Estate, wiring, nil)
		if err != nil {
			return nil, err
		}
		b = &Book{now: view.NewSnapshot(done.Estate, b.now.Revision)}
	}
	t := &taking{names: proposal.NewNamer(b.now.Matrix)}
	drift := b.Compare(readings)
	for i := range drift.Differences {
		if err := t.take(&drift.Differences[i]); err != nil {
			return nil, err
		}
	}
	wiring.Operations = append(wiring.Operations, t.names.Edit.Operations...)
	return &TakeOver{wiring, t.left}, nil
}

// tables returns the edit that gives networks the routes and peerings that accounts have. A
// peering of which one end is there is none.
func (b *Book) tables(readings []Reading) (*edit.Edit, error) {
	out := &edit.Edit{}
	found := *b.translated().Config
	found.Networks = slices.Clone(found.Networks)
	routes := map[string]bool{}
	for i := range readings {
		if r := &readings[i]; r.Native != nil && !b.now.Estate.Observes(r.Account) {
			for _, d := range putTables(&found, b.translated().Config, r) {
				routes[d.Network] = true
			}
		}
	}
	if len(routes) == 0 {
		return out, nil
	}
	read := reader.Wiring(b.now.Estate, &found)
	put := func(kind estate.Kind, thing any, base string) error {
		value, err := document.ValueOf(document.Body(reflect.ValueOf(thing)))
		out.Operations = append(out.Operations, edit.Operation{Op: edit.Put, Kind: kind, Object: value, Base: base})
		return err
	}
	for i := range read.Networks {
		n := b.now.Estate.Networks[i]
		if !routes[n.Name] || slices.Equal(n.Routes, read.Networks[i].Routes) {
			continue
		}
		base := document.Base(reflect.ValueOf(n))
		n.Routes = read.Networks[i].Routes
		if err := put(estate.KindNetwork, n, base); err != nil {
			return nil, err
		}
	}
	had := map[[2]string]*estate.Peering{}
	for i := range b.now.Estate.Peerings {
		p := &b.now.Estate.Peerings[i]
		had[ordered(p.Between)] = p
	}
	for i := range read.Peerings {
		is, was := &read.Peerings[i], had[ordered(read.Peerings[i].Between)]
		delete(had, ordered(is.Between))
		switch {
		case was == nil:
			if err := put(estate.KindPeering, estate.Peering{Between: is.Between, OffersHub: is.OffersHub}, edit.Absent); err != nil {
				return nil, err
			}
		case was.OffersHub != is.OffersHub:
			next := *was
			next.OffersHub = is.OffersHub
			if err := put(estate.KindPeering, next, document.Base(reflect.ValueOf(*was))); err != nil {
				return nil, err
			}
		}
	}
	for _, pair := range slices.SortedFunc(maps.Keys(had), func(a, b [2]string) int { return slices.Compare(a[:], b[:]) }) {
		p := had[pair]
		out.Operations = append(out.Operations, edit.Operation{Op: edit.Delete, Kind: estate.KindPeering, Name: p.Name, Base: document.Base(reflect.ValueOf(*p))})
	}
	return out, nil
}

func ordered(pair [2]string) [2]string {
	return [2]string{min(pair[0], pair[1]), max(pair[0], pair[1])}
}

type taking struct {
	names *proposal.Namer
	left  []string
}

func (t *taking) take(d *Difference) error {
	action := map[string]string{"opened": "allow", "closed": "deny"}[d.Change]
	switch {
	case action == "":
		t.leave(d, "a policy cannot say through which firewalls a target does not take flows")
		return nil
	case d.From != d.To:
		t.leave(d, "it is between two segments, which only a share can open")
		return nil
	}
	var sides [2]string
	for i, words := range [][]string{d.Sources, d.Destinations} {
		addresses, err := addressesOf(words)
		if err != nil {
			t.leave(d, err.Error())
			return nil //nolint:nilerr // it is told
		}
		if sides[i], err = t.names.Group(d.From, addresses); err != nil {
			return err
		}
	}
	return t.names.Put(estate.KindPolicy, fmt.Sprintf("%s-%s-to-%s", action, sides[0], sides[1]), map[string]any{
		"segments": []string{d.From}, "from": sides[:1], "to": sides[1:],
		"rules":       []map[string]any{{"services": d.Services, "action": action}},
		"description": "Taken over from what targets hold",
	})
}

func (t *taking) leave(d *Difference, why string) {
	t.left = append(t.left, fmt.Sprintf("%s to %s on %s: %s", strings.Join(d.Sources, ", "), strings.Join(d.Destinations, ", "), strings.Join(d.Services, ", "), why))
}

// addressesOf returns what prefixes and addresses, in words, hold.
func addressesOf(words []string) (*netipx.IPSet, error) {
	var prefixes []netip.Prefix
	for _, w := range words {
		p, err := netip.ParsePrefix(w)
		if a, ok := netip.ParseAddr(w); ok == nil {
			p, err = netip.PrefixFrom(a, a.BitLen()), nil
		}
		if err != nil {
			return nil, fmt.Errorf("%s is not a prefix", w)
		}
		prefixes = append(prefixes, p)
	}
	return proposal.PrefixSet(prefixes), nil
}
