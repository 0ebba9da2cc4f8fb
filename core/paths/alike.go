package paths

import (
	"encoding/binary"
)

// Alike returns a key that is equal for homes in networks whose ways through the hubs
// have the same effect on every flow: they are there or not, and reach the same
// hubs. A network with routes, peerings or prefixes of its own is alike to none.
// Costs and hops may differ between networks that are alike. Cost: the network's
// attachments times the different sets of links. In a network that translates,
// each subnet is by itself.
func (n *Net) Alike(home Home) string {
	network := home.Network
	x := &n.Networks[network]
	if x.own != nil {
		return n.itself(home)
	}
	if len(x.Routes) > 0 || len(x.Peers) > 0 || x.bears || x.filters {
		return string(binary.AppendVarint([]byte("n"), int64(network)))
	}
	key := []byte("i") // by islands: all attachments lie on one, whichever links are taken
	for _, m := range n.kinds {
		for k, a := range x.Attachments {
			island := m.island[n.Attachments[a].Hub]
			if k == 0 {
				key = binary.AppendVarint(key, int64(island))
			} else if island != m.island[n.Attachments[x.Attachments[0]].Hub] {
				return n.anchors(x)
			}
		}
	}
	return string(key)
}

// Shared reports whether a key of Alike may be that of several networks.
func Shared(alike string) bool { return alike[0] == 'i' || alike[0] == 'a' }

// itself returns a key of a home that is like no other. Subnets have numbers that
// depend on how many others have, so it goes by their names.
func (n *Net) itself(home Home) string {
	key := binary.AppendVarint([]byte("t"), int64(home.Network))
	if home.Subnet != None {
		key = append(key, n.Subnets[home.Subnet].Name...)
	}
	return string(key)
}

// anchors returns a key of the attachments of a network, with their costs.
func (n *Net) anchors(x *Network) string {
	key := []byte("a")
	for _, i := range x.Attachments {
		a := &n.Attachments[i]
		key = binary.AppendVarint(binary.AppendVarint(key, int64(a.Hub)), int64(a.Cost))
	}
	return string(key)
}

// Anchors returns a key that is equal for homes in networks that are attached alike, and
// have the same ways to the internet; a network with routes or peerings is like
// none.
func (n *Net) Anchors(home Home) string {
	network := home.Network
	x := &n.Networks[network]
	if x.own != nil {
		return n.itself(home)
	}
	if len(x.Routes) > 0 || len(x.Peers) > 0 || x.filters {
		return string(binary.AppendVarint([]byte("n"), int64(network)))
	}
	return n.anchors(x)
}

// findIslands numbers the hubs that links join, by the least hub of each island.
func (m *linkMesh) findIslands() {
	m.island = make([]int, m.hubs)
	for h := range m.hubs {
		m.island[h] = h
		for k := range h {
			if m.distance(k, h) < unreachable {
				m.island[h] = m.island[k]
				break
			}
		}
	}
}
