package membership

import (
	"cmp"
	"encoding/binary"
	"net/netip"
	"slices"

	"bivium/core/estate"
	"bivium/core/paths"
)

// Holding is an address that a workload holds.
type Holding struct {
	Addr     netip.Addr
	Workload int
}

// compileHolders finds, for each network, which workload holds an address.
func (m *Membership) compileHolders(workloads []estate.Workload, net *paths.Net) {
	of, count := make([]int, len(workloads)), make([]int, len(net.Networks))
	for i := range workloads {
		if i > 0 && workloads[i].Network == workloads[i-1].Network {
			of[i] = of[i-1]
		} else {
			of[i] = net.Network(workloads[i].Network)
		}
		if of[i] != paths.None {
			count[of[i]] += len(workloads[i].Addresses)
		}
	}
	m.Holders = make([][]Holding, len(net.Networks))
	for n := range m.Holders {
		m.Holders[n] = make([]Holding, 0, count[n])
	}
	for i, n := range of {
		if n != paths.None {
			for _, a := range workloads[i].Addresses {
				m.Holders[n] = append(m.Holders[n], Holding{a, i})
			}
		}
	}
	for n, list := range m.Holders {
		sortHolders(list)
		// Of two with one address (F6) the first counts.
		m.Holders[n] = slices.CompactFunc(list, func(x, y Holding) bool { return x.Addr == y.Addr })
	}
}

// sortHolders sorts by address, and those of one address by workload: if all are of IPv4,
// as numbers that hold both.
func sortHolders(list []Holding) {
	keys := make([]uint64, len(list))
	for i, h := range list {
		if !h.Addr.Is4() {
			slices.SortFunc(list, func(x, y Holding) int { return cmp.Or(x.Addr.Compare(y.Addr), x.Workload-y.Workload) })
			return
		}
		a := h.Addr.As4()
		keys[i] = uint64(binary.BigEndian.Uint32(a[:]))<<32 | uint64(uint32(h.Workload))
	}
	if slices.IsSorted(keys) {
		return
	}
	slices.Sort(keys)
	for i, k := range keys {
		var a [4]byte
		binary.BigEndian.PutUint32(a[:], uint32(k>>32))
		list[i] = Holding{netip.AddrFrom4(a), int(uint32(k))}
	}
}

// Holder returns the workload of a network that holds the address, or None.
func (m *Membership) Holder(network int, a netip.Addr) int {
	list := m.Holders[network]
	if i, ok := slices.BinarySearchFunc(list, a, func(h Holding, a netip.Addr) int { return h.Addr.Compare(a) }); ok {
		return list[i].Workload
	}
	return paths.None
}
