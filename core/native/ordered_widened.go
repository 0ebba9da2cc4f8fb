package native

import (
	"encoding/binary"
	"net/netip"
	"slices"

	"bivium/core/native/config"
	"bivium/core/space"
)

// widen lets rules of the second line pass more, until the list fits: all services of those
// that have the same own side, and then all of one side together.
func (u *unit) widen(l *config.List, second, limit int) {
	own := map[*config.Set]string{}
	for _, alike := range []func(*config.Rule) string{
		func(r *config.Rule) string { return ownKey(r, own) },
		func(*config.Rule) string { return "" },
	} {
		if len(l.Rules) <= limit {
			return
		}
		type side struct {
			out bool
			own string
		}
		at := map[side]int{}
		var joints []*joint
		for i := second; i < len(l.Rules); i++ {
			r := &l.Rules[i]
			key := side{r.Out, alike(r)}
			k, known := at[key]
			if !r.Allow || !known {
				k = len(joints)
				joints = append(joints, &joint{})
			}
			if r.Allow {
				at[key] = k
			}
			joints[k].rules = append(joints[k].rules, r)
		}
		out := slices.Clone(l.Rules[:second])
		for _, j := range joints {
			out = append(out, j.rule())
		}
		l.Rules = out
	}
}

// ownKey returns a string that is equal for rules with the same own side.
func ownKey(r *config.Rule, known map[*config.Set]string) string {
	var key []byte
	for _, s := range r.Own {
		k, ok := known[s]
		if !ok {
			k = setKey(s)
			known[s] = k
		}
		key = append(key, k...)
	}
	return string(key)
}

// setKey returns a string that is equal for sets of the same prefixes.
func setKey(s *config.Set) string {
	key := binary.LittleEndian.AppendUint32(nil, uint32(len(s.Prefixes)))
	for _, p := range s.Prefixes {
		key, _ = p.AppendBinary(key) //nolint:errcheck // a prefix that is valid
	}
	return string(key)
}

// joint is rules that become one.
type joint struct{ rules []*config.Rule }

func (j *joint) rule() config.Rule {
	r := *j.rules[0]
	if len(j.rules) == 1 {
		return r
	}
	var own, peer [][]*config.Set
	var services []space.Box
	all := false
	at := map[config.Ref]bool{}
	r.For = nil
	for _, x := range j.rules {
		own, peer = append(own, x.Own), append(peer, x.Peer)
		all = all || x.Services == nil
		services = append(services, x.Services...)
		for _, ref := range x.For {
			if !at[ref] {
				at[ref] = true
				r.For = append(r.For, ref)
			}
		}
	}
	r.Own, r.Peer, r.Services = together(own), together(peer), nil
	if !all {
		r.Services = space.Of(services).Boxes()
	}
	return r
}

// together returns the different ones of some sets; nil, which is every address, if some are that.
func together(sides [][]*config.Set) []*config.Set {
	type likeness struct {
		name  string
		first netip.Prefix
		size  int
	}
	var out []*config.Set
	is, known := map[*config.Set]bool{}, map[likeness][]*config.Set{}
	for _, side := range sides {
		if side == nil {
			return nil
		}
		for _, s := range side {
			if is[s] {
				continue
			}
			is[s] = true
			like := likeness{s.Name, s.Prefixes[0], len(s.Prefixes)}
			if !slices.ContainsFunc(known[like], func(o *config.Set) bool { return slices.Equal(o.Prefixes, s.Prefixes) }) {
				known[like] = append(known[like], s)
				out = append(out, s)
			}
		}
	}
	return out
}
