package verdict

import (
	"cmp"
	"encoding/binary"
	"net/netip"
	"slices"

	"bivium/core/estate"
	"bivium/core/paths"
)

// held is an address that a workload holds.
type held struct {
	addr     netip.Addr
	workload int
}

// compileHolders finds, for each network, which workload holds an address.
func (m *membership) compileHolders(workloads []estate.Workload, net *paths.Net) {
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
	m.holders = make([][]held, len(net.Networks))
	for n := range m.holders {
		m.holders[n] = make([]held, 0, count[n])
	}
	for i, n := range of {
		if n != paths.None {
			for _, a := range workloads[i].Addresses {
				m.holders[n] = append(m.holders[n], held{a, i})
			}
		}
	}
	for n, list := range m.holders {
		sortHolders(list)
		// Of two with one address (F6) the first counts.
		m.holders[n] = slices.CompactFunc(list, func(x, y held) bool { return x.addr == y.addr })
	}
}

// sortHolders sorts by address, and those of one address by workload: if all are of IPv4,
// as numbers that hold both.
func sortHolders(list []held) {
	keys := make([]uint64, len(list))
	for i, h := range list {
		if !h.addr.Is4() {
			slices.SortFunc(list, func(x, y held) int { return cmp.Or(x.addr.Compare(y.addr), x.workload-y.workload) })
			return
		}
		a := h.addr.As4()
		keys[i] = uint64(binary.BigEndian.Uint32(a[:]))<<32 | uint64(uint32(h.workload))
	}
	if slices.IsSorted(keys) {
		return
	}
	slices.Sort(keys)
	for i, k := range keys {
		var a [4]byte
		binary.BigEndian.PutUint32(a[:], uint32(k>>32))
		list[i] = held{netip.AddrFrom4(a), int(uint32(k))}
	}
}

// holder returns the workload of a network that holds the address, or None.
func (m *membership) holder(network int, a netip.Addr) int {
	list := m.holders[network]
	if i, ok := slices.BinarySearchFunc(list, a, func(h held, a netip.Addr) int { return h.addr.Compare(a) }); ok {
		return list[i].workload
	}
	return paths.None
}
