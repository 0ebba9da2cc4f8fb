package dataplane

// Error is what a router, host or firewall sends back to the source of a packet that it does not
// deliver (RFC 792, RFC 4443; a firewall resets a TCP connection that it rejects, RFC 9293). It
// belongs to the flow, and so passes every list; it needs a path back.
type Error struct {
	Says string
	From string
}

// What errors say.
const (
	hostUnreachable    = "ICMP host unreachable"
	networkUnreachable = "ICMP network unreachable"
	prohibited         = "ICMP administratively prohibited"
	reset              = "TCP reset"
)

// tcp is the protocol number of TCP.
const tcp = 6

// nobody tells, of a packet that was delivered, whether no machine has the address that it went
// to: the network's router says so, as far as its answer comes back.
func (t *trip) nobody() {
	n := t.Networks[t.dst.network]
	if t.fate.Answered && n != nil && n.Machines != nil && !n.Machines[t.dst.inside] {
		t.fate.Error = &Error{hostUnreachable, "network " + t.dst.network}
	}
}

// noPath tells the source that a hub, or the router of its own network where no hub is reached,
// knows no path. Where its list lets nothing out, nothing gets as far as that.
func (t *trip) noPath(enter string) {
	quiet := trip{World: t.World, Packet: t.Packet, src: t.src, dst: t.dst, seen: t.seen, back: t.back}
	if !quiet.list(&quiet.src, quiet.seen, true) {
		return
	}
	from := "network " + t.src.network
	if hubs := t.attached(enter); len(hubs) > 0 {
		from = "hub " + hubs[0].hub
	}
	t.fate.Error = &Error{networkUnreachable, from}
}

// rejects tells the source that a pool rejects the packet, if there is a path from the hub at
// which it was.
func (t *trip) rejects(pool string, w *way) {
	if t.src.segment != "" {
		if _, ok := t.fromHub(w.hubs[0], t.src.segment, &t.src); !ok {
			return
		}
	}
	says := prohibited
	if t.Protocol == tcp {
		says = reset
	}
	t.fate.Error = &Error{says, "pool " + pool}
}
