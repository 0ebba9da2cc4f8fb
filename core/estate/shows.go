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
				why, fix := t.unsound()
				c.add(BadShow, []Ref{of}, fix, fmt.Sprintf("%s shows %s as %s, %s", of, t.Inside, t.Outside, why), "%s", path+".outside")
				continue
			case t.Segment == s.Guest.Segment:
				to = s.Owner.Segment
			case t.Segment != s.Owner.Segment:
				c.add(BadShow, []Ref{of}, fmt.Sprintf("name %s or %s", s.Owner.Segment, s.Guest.Segment),
					fmt.Sprintf("%s shows addresses of segment %s, which is not part of the share", of, t.Segment), "%s", path+".segment")
				continue
			}
			if !s.Active() {
				continue
			}
			at := [2]string{t.Segment, to}
			for _, o := range known[at] {
				if o.Translation != t && (o.Inside.Overlaps(t.Inside) || o.Outside.Overlaps(t.Outside)) {
					c.add(BadShow, []Ref{of, {KindShare, o.share}}, "use the same translation in both, or prefixes that do not overlap",
						fmt.Sprintf("%s shows %s to %s as %s, and share %s shows %s as %s, which conflict", of, t.Inside, to, t.Outside, o.share, o.Inside, o.Outside), "%s", path)
				}
			}
			known[at] = append(known[at], shown{t, s.Name})
		}
	}
}
