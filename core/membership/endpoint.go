package membership

import (
	"encoding/binary"
	"net/netip"

	"bivium/core/paths"
)

// Endpoint is one end of a flow, found.
type Endpoint struct {
	Addr     netip.Addr
	Segment  int // paths.None for an external endpoint
	Home     paths.Home
	Workload int // an index of the estate's workloads, or paths.None
	Exit     int // that an external endpoint is reached through, or paths.None
	Groups   []int
}

// Internal reports whether the endpoint has a home.
func (p *Endpoint) Internal() bool { return p.Segment != paths.None }

// GroupKey returns a string that is equal for endpoints in the same groups.
func (p *Endpoint) GroupKey() string {
	b := make([]byte, 0, 2*len(p.Groups))
	for _, g := range p.Groups {
		b = binary.AppendUvarint(b, uint64(g))
	}
	return string(b)
}
