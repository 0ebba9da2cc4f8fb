package targets

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/internal/app/view"
)

// TakeOver is the edit that makes the estate say what targets do otherwise, and what of that no
// edit here can say.
type TakeOver struct {
	Edit *edit.Edit
	Left []string
}

// TakeOver returns the edit that makes an estate say the same as a drift: a policy that allows for
// each set of flows that passes, and one that denies for each that does not. It speaks of subnets
// and prefixes as groups, made where there is none yet.
func (d *Drift) TakeOver(e *estate.Estate) (*TakeOver, error) {
	t := &taking{e: e, out: &TakeOver{Edit: &edit.Edit{}}, groups: map[string]string{}}
	for i := range d.Differences {
		if err := t.take(&d.Differences[i]); err != nil {
			return nil, err
		}
	}
	return t.out, nil
}

type taking struct {
	e      *estate.Estate
	out    *TakeOver
	groups map[string]string // of which the edit makes some, by what they hold
	names  []string
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
	from, err := t.group(d.From, d.Sources)
	if err != nil {
		t.leave(d, err.Error())
		return nil //nolint:nilerr // it is told
	}
	to, err := t.group(d.From, d.Destinations)
	if err != nil {
		t.leave(d, err.Error())
		return nil //nolint:nilerr // it is told
	}
	name := t.free(estate.KindPolicy, fmt.Sprintf("%s-%s-to-%s", action, from, to))
	return t.put(estate.KindPolicy, map[string]any{
		"name": name, "segments": []string{d.From}, "from": []string{from}, "to": []string{to},
		"rules":       []map[string]any{{"services": d.Services, "action": action}},
		"description": "Taken over from what targets hold",
	})
}

func (t *taking) leave(d *Difference, why string) {
	t.out.Left = append(t.out.Left, fmt.Sprintf("%s to %s on %s: %s", strings.Join(d.Sources, ", "), strings.Join(d.Destinations, ", "), strings.Join(d.Services, ", "), why))
}

// group returns the name of a group that holds some prefixes of a segment: one that there is, or one
// that the edit makes.
func (t *taking) group(segment string, words []string) (string, error) {
	var prefixes []string
	var subnets []string
	name := ""
	for _, w := range words {
		p, err := netip.ParsePrefix(w)
		if a, ok := netip.ParseAddr(w); ok == nil {
			p, err = netip.PrefixFrom(a, a.BitLen()), nil
		}
		if err != nil {
			return "", fmt.Errorf("%s is not a prefix", w)
		}
		if network, subnet := t.subnet(segment, p); subnet != "" {
			subnets = append(subnets, network+"/"+subnet)
			name = network + "-" + subnet
			continue
		}
		prefixes = append(prefixes, p.String())
		if name == "" {
			name = strings.NewReplacer(".", "-", ":", "-", "/", "-").Replace(p.String())
		}
	}
	slices.Sort(subnets)
	slices.Sort(prefixes)
	holds := fmt.Sprint(subnets, prefixes)
	for i := range t.e.Groups {
		if g := &t.e.Groups[i]; g.Within == "" && g.Match == "" && g.NetworkMatch == "" && len(g.Networks)+len(g.Exits) == 0 && holds == fmt.Sprint(refs(g.Subnets), sortedWords(g.Prefixes)) {
			return g.Name, nil
		}
	}
	if had := t.groups[holds]; had != "" {
		return had, nil
	}
	if len(subnets)+len(prefixes) > 1 {
		name += fmt.Sprintf("-and-%d", len(subnets)+len(prefixes)-1)
	}
	name = t.free(estate.KindGroup, name)
	object := map[string]any{"name": name}
	if len(subnets) > 0 {
		object["subnets"] = subnets
	}
	if len(prefixes) > 0 {
		object["prefixes"] = prefixes
	}
	t.groups[holds] = name
	return name, t.put(estate.KindGroup, object)
}

func refs(list []estate.SubnetRef) []string {
	out := make([]string, len(list))
	for i, r := range list {
		out[i] = r.Network + "/" + r.Subnet
	}
	slices.Sort(out)
	return out
}

func sortedWords(p []netip.Prefix) []string {
	out := view.Words(p)
	slices.Sort(out)
	return out
}

// subnet returns the subnet of a segment that has exactly a prefix.
func (t *taking) subnet(segment string, p netip.Prefix) (network, subnet string) {
	for i := range t.e.Networks {
		n := &t.e.Networks[i]
		for k := range n.Subnets {
			if s := &n.Subnets[k]; s.Prefix == p && n.SegmentOf(s) == segment {
				return n.Name, s.Name
			}
		}
	}
	return "", ""
}

// free returns a name that nothing of the kind has.
func (t *taking) free(kind estate.Kind, name string) string {
	name = estate.FreeName(name, func(n string) bool {
		return slices.Contains(t.names, string(kind)+" "+n) || edit.BaseOf(t.e, estate.Ref{Kind: kind, Name: n}) != edit.Absent
	})
	t.names = append(t.names, string(kind)+" "+name)
	return name
}

func (t *taking) put(kind estate.Kind, object map[string]any) error {
	body, err := json.Marshal(object)
	if err != nil {
		return err
	}
	value, err := document.ValueOf(body)
	if err != nil {
		return err
	}
	t.out.Edit.Operations = append(t.out.Edit.Operations, edit.Operation{Op: edit.Put, Kind: kind, Object: value, Base: edit.Absent})
	return nil
}
