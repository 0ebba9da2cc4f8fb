// Package learning decides what becomes of the prefixes that routers announce, by
// docs/decisions/07-learned-prefixes.md. It reads no clock and no socket: every
// call is told the time.
package learning

import (
	"math"
	"net/netip"
	"time"

	"bivium/core/estate"
)

// Times and costs of L2 and L5. Those of damping are of the order that RFC 2439
// gives in its examples.
const (
	Hold     = time.Minute      // what is gone has so long to come back
	halfLife = 15 * time.Minute // in which a penalty halves
	perFlap  = 1000.0           // a withdrawal costs so much
	damp     = 3000.0           // from here on a prefix counts as not announced
	reuse    = 750.0            // and here it counts again
	ceiling  = reuse * 16       // reached again after four half-lives, an hour
)

// Intake is what one session announces. It is not safe for concurrent use.
type Intake struct {
	limit int
	heard map[netip.Prefix]*heard
	over  map[netip.Prefix]bool // announced beyond the limit; bounded like heard
	unfit map[netip.Prefix]bool // announced, and such that an estate cannot hold; bounded likewise
	up    bool
	since time.Time // it is up, or down; zero if it has never been up
	flaps int       // how often it went down
}

type heard struct {
	announced bool
	left      time.Time // it was withdrawn, or damped; zero if it never was
	penalty   float64   // at the time of at
	at        time.Time
	damped    bool
}

// NewIntake returns the intake of a session that may bring so many prefixes.
func NewIntake(limit int) *Intake {
	return &Intake{limit: limit, heard: map[netip.Prefix]*heard{}, over: map[netip.Prefix]bool{}, unfit: map[netip.Prefix]bool{}}
}

// SetLimit changes how many prefixes it may bring. What came beyond the old one is
// taken in as far as there is room.
func (i *Intake) SetLimit(limit int, now time.Time) {
	i.limit = limit
	i.fill(now)
}

// Up notes that the session has come up.
func (i *Intake) Up(now time.Time) {
	if !i.up {
		i.up, i.since = true, now
	}
}

// Down notes that the session has ended, and with it all that it announced.
func (i *Intake) Down(now time.Time) {
	if !i.up {
		return
	}
	i.up, i.since = false, now
	i.flaps++
	clear(i.over)
	clear(i.unfit)
	for _, h := range i.heard {
		h.withdraw(now)
	}
}

// Announce notes that a prefix is announced, and reports whether it was taken in: there
// was room for it (L6), and an estate can hold it (M15).
func (i *Intake) Announce(p netip.Prefix, now time.Time) bool {
	if estate.CheckPrefix(p) != nil {
		if len(i.unfit) < 4*i.limit {
			i.unfit[p] = true
		}
		return false
	}
	h := i.heard[p]
	if h == nil {
		if len(i.heard) >= i.limit {
			i.sweep(now, reuse/2)
		}
		if len(i.heard) >= i.limit {
			if len(i.over) < 4*i.limit {
				i.over[p] = true
			}
			return false
		}
		h = &heard{at: now}
		i.heard[p] = h
	}
	h.announced = true
	return true
}

// Withdraw notes that a prefix is withdrawn.
func (i *Intake) Withdraw(p netip.Prefix, now time.Time) {
	delete(i.over, p)
	delete(i.unfit, p)
	if h := i.heard[p]; h != nil {
		h.withdraw(now)
	}
}

func (h *heard) withdraw(now time.Time) {
	if !h.announced {
		return
	}
	h.announced = false
	if !h.isDamped(now) { // as it is now: its damping may have run out unasked
		h.left = now
	}
	h.penalty, h.at = min(h.costs(now)+perFlap, ceiling), now
	h.damped = h.damped || h.penalty >= damp
}

// costs returns the penalty as it is now.
func (h *heard) costs(now time.Time) float64 {
	return h.penalty * math.Exp2(-float64(now.Sub(h.at))/float64(halfLife))
}

// isDamped reports whether a prefix is left out because it flaps.
func (h *heard) isDamped(now time.Time) bool {
	if h.damped && h.costs(now) < reuse {
		h.damped = false
	}
	return h.damped
}

// present reports whether a prefix counts as announced (L2, L5).
func (h *heard) present(now time.Time) bool {
	damped := h.isDamped(now)
	return h.announced && !damped || !h.left.IsZero() && now.Sub(h.left) < Hold
}

// Present reports whether a prefix counts as announced.
func (i *Intake) Present(p netip.Prefix, now time.Time) bool {
	h := i.heard[p]
	return h != nil && h.present(now)
}

// Knows reports whether what is not present is gone: the session is up, or has
// ended, and had the time to say what it has. One that has not come up yet says
// nothing.
func (i *Intake) Knows(now time.Time) bool { return !i.since.IsZero() && now.Sub(i.since) >= Hold }

// Restless reports whether something of the session may change though nothing is
// said: a prefix may run out of its time, or count again.
func (i *Intake) Restless(now time.Time) bool {
	if !i.since.IsZero() && now.Sub(i.since) < 2*Hold {
		return true
	}
	for _, h := range i.heard {
		if h.damped || !h.left.IsZero() && now.Sub(h.left) < 2*Hold {
			return true
		}
	}
	return false
}

// Each calls f for every prefix that counts as announced, in no order.
func (i *Intake) Each(now time.Time, f func(netip.Prefix)) {
	for p, h := range i.heard {
		if h.present(now) {
			f(p)
		}
	}
}

// negligible is a penalty that changes nothing any more. Where there is no lack of room,
// others are kept, so that asking for figures does not change what counts.
const negligible = 1e-6

// sweep forgets prefixes that are gone and have a penalty of less than some, and fills the
// room.
func (i *Intake) sweep(now time.Time, least float64) {
	for p, h := range i.heard {
		if !h.announced && !h.present(now) && h.costs(now) < least {
			delete(i.heard, p)
		}
	}
	i.fill(now)
}

// fill takes in what was left out, as far as there is room.
func (i *Intake) fill(now time.Time) {
	for p := range i.over {
		if len(i.heard) >= i.limit {
			return
		}
		delete(i.over, p)
		i.heard[p] = &heard{at: now, announced: true}
	}
}

// Figures are what an intake says of itself.
type Figures struct {
	Up        bool
	Since     time.Time // zero if it has never been up
	Flaps     int       // how often it went down
	Announced int       // prefixes that count as announced
	Damped    int       // left out because they flap
	Over      int       // left out because they are too many
	Unfit     int       // left out because an estate cannot hold them, such as IPv4 written as IPv6
	Limit     int
}

// Figures returns what the intake says of itself. Cost: its prefixes.
func (i *Intake) Figures(now time.Time) Figures {
	least := negligible
	if len(i.over) > 0 { // others wait for the room
		least = reuse / 2
	}
	i.sweep(now, least)
	f := Figures{Up: i.up, Since: i.since, Flaps: i.flaps, Over: len(i.over), Unfit: len(i.unfit), Limit: i.limit}
	for _, h := range i.heard {
		if h.isDamped(now) {
			f.Damped++
		}
		if h.present(now) {
			f.Announced++
		}
	}
	return f
}

// Damped returns the prefixes that are left out because they flap, and when each of
// them counts again if it flaps no more.
func (i *Intake) Damped(now time.Time) map[netip.Prefix]time.Time {
	out := map[netip.Prefix]time.Time{}
	for p, h := range i.heard {
		if h.isDamped(now) {
			out[p] = now.Add(time.Duration(math.Log2(h.costs(now)/reuse) * float64(halfLife)))
		}
	}
	return out
}
