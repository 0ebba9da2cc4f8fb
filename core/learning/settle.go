package learning

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"bivium/core/estate"
)

// Voice is a session with what it announces.
type Voice struct {
	Session *estate.Session
	Intake  *Intake
}

// Ground is what the rest of an estate says about a prefix of an attachment.
type Ground interface {
	// Overlaps reports whether another network is home to addresses of the prefix
	// in a segment.
	Overlaps(segment string, p netip.Prefix) bool
	// Relies reports whether something relies on the prefix (L3).
	Relies(segment string, p netip.Prefix) bool
	// Take notes that the attachment's network is home to the prefix from now on.
	Take(segment string, p netip.Prefix)
}

// Tally is how many prefixes changed, and how.
type Tally struct {
	Accepted, Waiting int // that are new, or waited
	Withdrawn, Left   int
	Back              int // that were withdrawn
}

// Add adds another tally.
func (t *Tally) Add(o Tally) {
	t.Accepted += o.Accepted
	t.Waiting += o.Waiting
	t.Withdrawn += o.Withdrawn
	t.Left += o.Left
	t.Back += o.Back
}

// Settle returns the learned prefixes of an attachment after what its sessions
// announce (L1, L2), in order of segment and prefix. The list that it is given does
// not change; prefixes of segments without a session stay as they are. Cost: the
// prefixes of the list and of the sessions, sorted.
func Settle(list []estate.Learned, voices []Voice, now time.Time, g Ground) ([]estate.Learned, Tally) {
	s := settler{voices: voices, now: now, ground: g}
	known := map[key]bool{}
	for _, l := range list {
		known[key{l.Segment, l.Prefix}] = true
		s.review(l)
	}
	var fresh []key
	for _, v := range voices {
		v.Intake.Each(now, func(p netip.Prefix) {
			k := key{v.Session.Segment, p}
			if !known[k] {
				known[k] = true
				fresh = append(fresh, k)
			}
		})
	}
	slices.SortFunc(fresh, func(a, b key) int { return estate.ComparePrefixes(a.prefix, b.prefix) })
	for _, k := range fresh {
		s.admit(estate.Learned{Prefix: k.prefix, Segment: k.segment})
	}
	slices.SortStableFunc(s.out, func(a, b estate.Learned) int {
		if a.Segment != b.Segment {
			return cmp.Compare(a.Segment, b.Segment)
		}
		return estate.ComparePrefixes(a.Prefix, b.Prefix)
	})
	return s.out, s.tally
}

type key struct {
	segment string
	prefix  netip.Prefix
}

type settler struct {
	voices []Voice
	now    time.Time
	ground Ground
	out    []estate.Learned
	tally  Tally
}

// review puts a prefix that is known into the list as it is now.
func (s *settler) review(l estate.Learned) {
	present, gone, may := s.hear(l.Segment, l.Prefix)
	switch {
	case present && l.Status == "withdrawn":
		l.Status = "accepted" // its addresses were never anyone else's
		s.tally.Back++
	case present && l.Status == "waiting" && may && !s.ground.Overlaps(l.Segment, l.Prefix):
		l.Status = "accepted"
		s.ground.Take(l.Segment, l.Prefix)
		s.tally.Accepted++
	case gone && l.Status == "waiting", gone && l.Status == "accepted" && !s.ground.Relies(l.Segment, l.Prefix):
		s.tally.Left++
		return
	case gone && l.Status == "accepted":
		l.Status = "withdrawn"
		s.tally.Withdrawn++
	}
	s.out = append(s.out, l)
}

// admit puts a prefix into the list that is announced for the first time.
func (s *settler) admit(l estate.Learned) {
	_, _, may := s.hear(l.Segment, l.Prefix)
	if may && !s.ground.Overlaps(l.Segment, l.Prefix) {
		l.Status = "accepted"
		s.ground.Take(l.Segment, l.Prefix)
		s.tally.Accepted++
	} else {
		l.Status = "waiting"
		s.tally.Waiting++
	}
	s.out = append(s.out, l)
}

// hear returns whether some session announces a prefix, whether all that could have
// say that they do not, and whether one that does may.
func (s *settler) hear(segment string, p netip.Prefix) (present, gone, may bool) {
	gone = true
	spoken := false
	for _, v := range s.voices {
		if v.Session.Segment != segment {
			continue
		}
		spoken = true
		if !v.Intake.Present(p, s.now) {
			gone = gone && v.Intake.Knows(s.now)
			continue
		}
		present, gone = true, false
		for _, m := range v.Session.May {
			may = may || m.Bits() <= p.Bits() && m.Contains(p.Addr())
		}
	}
	return present, gone && spoken, may
}
