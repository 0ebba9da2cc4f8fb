package targets

import (
	"fmt"
	"net/netip"
	"strings"

	"go4.org/netipx"

	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/core/native/proposal"
	"bivium/internal/app/view"
)

// TakeOver is the edit that makes the estate say what targets do otherwise, and what of that no
// edit here can say.
type TakeOver struct {
	Edit *edit.Edit
	Left []string
}

// TakeOver returns the edit that makes an estate say the same as a drift: a policy that allows for
// each set of flows that passes, and one that denies for each that does not. It speaks of labels,
// networks, subnets and prefixes as groups, made where there is none yet.
func (d *Drift) TakeOver(now *view.Snapshot) (*TakeOver, error) {
	t := &taking{names: proposal.NewNamer(now.Matrix)}
	for i := range d.Differences {
		if err := t.take(&d.Differences[i]); err != nil {
			return nil, err
		}
	}
	return &TakeOver{t.names.Edit, t.left}, nil
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
