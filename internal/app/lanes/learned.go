package lanes

import (
	"fmt"

	"bivium/core/estate"
	"bivium/core/paths"
	"bivium/internal/app/view"
)

// WaitingRow is a learned prefix that waits, was refused, or is gone.
type WaitingRow struct {
	Network  string       `json:"network"`
	Hub      string       `json:"hub"`
	Segment  string       `json:"segment"`
	Prefix   string       `json:"prefix"`
	Status   string       `json:"status"`
	Overlaps []string     `json:"overlaps"` // what exists and overlaps
	Draws    []string     `json:"draws"`    // what is reached by wider routes now
	Relied   []view.Thing `json:"relied"`   // what speaks of its addresses, if it is gone
}

// mostLearned is how many learned prefixes are listed at once.
const mostLearned = 200

// listLearned lists the learned prefixes that wait, were refused or are gone, with
// what they would overlap, or what relies on them: those that are gone first.
func listLearned(s *view.Snapshot, out *Routes, fits func(*WaitingRow) bool) {
	out.Waiting = []WaitingRow{}
	relied := estate.ReliedOn(s.Estate)
	for _, gone := range []bool{true, false} {
		for i := range s.Estate.Attachments {
			a := &s.Estate.Attachments[i]
			for k := range a.Learned {
				l := &a.Learned[k]
				row := WaitingRow{Network: a.Network, Hub: a.Hub, Segment: l.Segment, Status: l.Status, Overlaps: []string{}, Draws: []string{}, Relied: []view.Thing{}}
				if l.Status == "accepted" || (l.Status == "withdrawn") != gone || !fits(&row) {
					continue
				}
				if len(out.Waiting) == mostLearned {
					out.More++
					continue
				}
				row.Prefix = l.Prefix.String()
				if gone {
					for _, ref := range relied.By(l.Prefix) {
						row.Relied = append(row.Relied, view.Thing{Kind: string(ref.Kind), Name: ref.Name})
					}
				} else {
					overlaps(s, &row, l)
				}
				out.Waiting = append(out.Waiting, row)
			}
		}
	}
}

// overlaps finds what a learned prefix would overlap, and what it would draw away
// from wider routes.
func overlaps(s *view.Snapshot, row *WaitingRow, l *estate.Learned) {
	net := s.Judge.Net
	segment := net.Segment(l.Segment)
	if segment == paths.None {
		return
	}
	for home := range net.Crossing(segment, net.Network(row.Network), l.Prefix) {
		name := net.Networks[home.Network].Name
		words := fmt.Sprintf("%s of %s", home.Prefix, name)
		if home.Subnet != paths.None {
			words = fmt.Sprintf("subnet %s/%s (%s)", name, net.Subnets[home.Subnet].Name, home.Prefix)
		}
		if home.Subnet == paths.None && home.Prefix.Bits() < l.Prefix.Bits() {
			row.Draws = append(row.Draws, words)
		} else {
			row.Overlaps = append(row.Overlaps, words)
		}
	}
}
