package inventory

import (
	"maps"
	"slices"
	"strings"

	"bivium/core/estate"
)

// peerings takes in the peerings that were read, and lets go of those between networks of the
// account that are gone. Where the account is managed, and where somebody said otherwise here
// since it was last read, those between networks that were there stay as they are.
func (k *taker) peerings() {
	names := map[string]bool{}
	for i := range k.e.Networks {
		names[k.e.Networks[i].Name] = true
	}
	read := map[[2]string]bool{}
	own := map[string]bool{}
	was := map[string][]string{} // as they were last read
	for i := range k.reading.Networks {
		n := &k.reading.Networks[i]
		a := k.networkName[n.ID]
		own[a] = true
		peers := []string{}
		for _, id := range n.Peers {
			if b, ok := k.networkName[id]; ok && names[b] && a != b {
				read[ordered(a, b)] = true
				peers = append(peers, b)
			}
		}
		known := k.known[key{k.reading.Account, NetworkKind, n.ID}]
		was[a], known.Peers = known.Peers, peers
	}
	// stays reports whether the estate is right of a pair, rather than the account.
	stays := func(pair [2]string, inEstate bool) bool {
		a, b := was[pair[0]], was[pair[1]]
		if a == nil || b == nil { // one of them is new
			return false
		}
		return k.reading.Managed || (slices.Contains(a, pair[1]) || slices.Contains(b, pair[0])) != inEstate
	}
	var kept []estate.Peering
	for _, p := range k.e.Peerings {
		pair := ordered(p.Between[0], p.Between[1])
		gone := own[pair[0]] && own[pair[1]] && !read[pair] && !k.reading.Partial && !stays(pair, true)
		if !gone && names[pair[0]] && names[pair[1]] {
			kept = append(kept, p)
		} else {
			k.note(NetworkKind, pair[0], Changed, Detail{PeeringRemoved, pair[1]})
		}
		delete(read, pair)
	}
	pairs := slices.SortedFunc(maps.Keys(read), func(a, b [2]string) int { return strings.Compare(a[0]+" "+a[1], b[0]+" "+b[1]) })
	for _, pair := range pairs {
		if stays(pair, false) {
			k.note(NetworkKind, pair[0], Kept, Detail{PeeringUnmade, pair[1]})
			continue
		}
		kept = append(kept, estate.Peering{Between: pair})
		k.note(NetworkKind, pair[0], Changed, Detail{PeeringAdded, pair[1]})
	}
	k.e.Peerings = kept
	estate.NameConnections(k.e)
}

func ordered(a, b string) [2]string {
	if a > b {
		a, b = b, a
	}
	return [2]string{a, b}
}
