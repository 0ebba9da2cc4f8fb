package estate

import "fmt"

// shows reports F16.
func (c *checker) shows() {
	type shown struct {
		Translation
		share string
	}
	known := map[[2]string][]shown{} // by the segment whose addresses they are, and who sees them
	for i := range c.e.Shares {
		s := &c.e.Shares[i]
		of := Ref{KindShare, s.Name}
		for k, t := range s.Show {
			path := fmt.Sprintf("shares[%d].show[%d]", i, k)
			c.need(of, KindSegment, t.Segment, "%s.segment", path)
			to := s.Guest.Segment
			switch {
			case !t.Sound():
				c.add(BadShow, t.unsound(), []Ref{of}, args(t.Inside, t.Outside), "%s", path+".outside")
				continue
			case t.Segment == s.Guest.Segment:
				to = s.Owner.Segment
			case t.Segment != s.Owner.Segment:
				c.add(BadShow, Elsewhere, []Ref{of}, args(t.Segment, s.Owner.Segment, s.Guest.Segment), "%s", path+".segment")
				continue
			}
			if !s.Active() {
				continue
			}
			at := [2]string{t.Segment, to}
			for _, o := range known[at] {
				if o.Translation != t && (o.Inside.Overlaps(t.Inside) || o.Outside.Overlaps(t.Outside)) {
					c.add(BadShow, Conflict, []Ref{of, {KindShare, o.share}}, args(to, t.Inside, t.Outside, o.Inside, o.Outside), "%s", path)
				}
			}
			known[at] = append(known[at], shown{t, s.Name})
		}
	}
}
