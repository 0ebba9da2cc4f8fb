package paths

import "sync/atomic"

// unreachable is the distance of hubs that no links join. Costs are below 2³¹,
// so sums of two stay far below it.
const unreachable = 1 << 50

// linkMesh is the hubs with the links that carry one segment: least costs
// between all pairs (Floyd, 1962; Warshall, 1962).
type linkMesh struct {
	hubs int
	cost []int // cost of the cheapest link a to b, by a*hubs+b
	link []int // number of that link, or None
	dist []int

	island []int // by hub: the least hub that links join it to

	walks []atomic.Pointer[walk] // by a*hubs+b: the least path, once it was asked for
}

// walk is the hubs of a path, and the links between them.
type walk struct{ hubs, links []int }

func newMesh(hubs int, links []Link, segment int) *linkMesh {
	m := &linkMesh{hubs: hubs, cost: make([]int, hubs*hubs), link: make([]int, hubs*hubs), dist: make([]int, hubs*hubs), walks: make([]atomic.Pointer[walk], hubs*hubs)}
	for i := range m.cost {
		m.cost[i], m.link[i] = unreachable, None
	}
	for i := range links {
		l := &links[i]
		if !l.Carries(segment) || l.Cost >= m.cost[l.A*hubs+l.B] {
			continue
		}
		m.cost[l.A*hubs+l.B], m.cost[l.B*hubs+l.A] = l.Cost, l.Cost
		m.link[l.A*hubs+l.B], m.link[l.B*hubs+l.A] = i, i
	}
	copy(m.dist, m.cost)
	for a := range hubs {
		m.dist[a*hubs+a] = 0
	}
	for via := range hubs {
		for a := range hubs {
			first := m.dist[a*hubs+via]
			if first >= unreachable {
				continue
			}
			for b := range hubs {
				if d := first + m.dist[via*hubs+b]; d < m.dist[a*hubs+b] {
					m.dist[a*hubs+b] = d
				}
			}
		}
	}
	m.findIslands()
	return m
}

// distance returns the least cost from hub a to hub b, or unreachable.
func (m *linkMesh) distance(a, b int) int { return m.dist[a*m.hubs+b] }

// walk returns the hubs from a to b on the least path, both included, and the
// links between them. Of several least paths it is the first by the names of
// the hubs between: a direct link comes before every other, because a list
// comes before those that it begins. Link costs are 1 or more, so each step
// comes nearer to b. The lists are shared.
func (m *linkMesh) walk(a, b int) (hubs, links []int) {
	w := m.walks[a*m.hubs+b].Load()
	if w == nil {
		w = m.find(a, b)
		m.walks[a*m.hubs+b].Store(w)
	}
	return w.hubs, w.links
}

func (m *linkMesh) find(a, b int) *walk {
	w := &walk{hubs: []int{a}}
	for at := a; at != b; {
		next := b
		if m.cost[at*m.hubs+b] != m.distance(at, b) {
			next = m.firstStep(at, b)
		}
		w.hubs = append(w.hubs, next)
		w.links = append(w.links, m.link[at*m.hubs+next])
		at = next
	}
	return w
}

func (m *linkMesh) firstStep(at, b int) int {
	for next := range m.hubs {
		if next != at && m.cost[at*m.hubs+next] < unreachable && m.cost[at*m.hubs+next]+m.distance(next, b) == m.distance(at, b) {
			return next
		}
	}
	panic("paths: a least path has no first step")
}
