package drafts

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"bivium/internal/app/view"
	"bivium/internal/people"
	"bivium/internal/store"
)

// Window is when drafts that concern a segment may be applied, or a freeze, when they may not.
type Window struct {
	ID      int64    `json:"id"`
	Segment string   `json:"segment"` // "" for all
	Days    []string `json:"days"`    // of a window
	Opens   string   `json:"opens"`   // 22:00
	Closes  string   `json:"closes"`  // before it opens: on the next day
	Zone    string   `json:"zone"`
	First   string   `json:"first"` // of a freeze: the first day
	Last    string   `json:"last"`  // and the last
	Why     string   `json:"why"`
}

// days are those of a week as windows name them, by time.Weekday.
var days = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// Windows returns all windows and freezes.
func (d *Desk) Windows(ctx context.Context) ([]Window, error) {
	rows, err := d.store.Windows(ctx)
	out := make([]Window, len(rows))
	for i := range rows {
		out[i] = Window(rows[i])
		out[i].Days = append([]string{}, out[i].Days...)
	}
	return out, err
}

// AddWindow stores a window or a freeze.
func (d *Desk) AddWindow(ctx context.Context, by *people.Who, w *Window) error {
	if problems := d.checkWindow(w); len(problems) > 0 {
		return problems
	}
	row := store.Window(*w)
	if err := d.store.AddWindow(ctx, &row); err != nil {
		return err
	}
	w.ID = row.ID
	d.forget()
	return d.people.Audit().Add(ctx, by, "change window added", segmentOr(w.Segment), w.words())
}

// DropWindow removes a window or a freeze.
func (d *Desk) DropWindow(ctx context.Context, by *people.Who, id int64) error {
	if err := d.store.DropWindow(ctx, id); err != nil {
		return err
	}
	d.forget()
	return d.people.Audit().Add(ctx, by, "change window removed", fmt.Sprint(id), "")
}

// forget lets those who look at drafts ask anew whether they can be applied.
func (d *Desk) forget() { d.Events.tell(Event{Kind: EventDrafts}) }

func (d *Desk) checkWindow(w *Window) view.Problems {
	var problems view.Problems
	add := func(at, message, fix string) {
		problems = append(problems, view.Problem{At: at, Message: message, Fix: fix})
	}
	if w.Segment != "" && d.app.Now().Judge.Net.Segment(w.Segment) < 0 {
		add("segment", fmt.Sprintf("there is no segment %s", w.Segment), "choose one, or none for all")
	}
	if _, err := time.LoadLocation(w.Zone); err != nil || w.Zone == "" {
		add("zone", fmt.Sprintf("%q is not a time zone", w.Zone), "use a name such as UTC or Europe/Oslo")
	}
	if w.First != "" || w.Last != "" {
		first, err := time.Parse(time.DateOnly, w.First)
		last, failed := time.Parse(time.DateOnly, w.Last)
		if err != nil || failed != nil || last.Before(first) {
			add("first", "a freeze has a first and a last day, in this order", "write them as 2026-12-20")
		}
		return problems
	}
	for _, x := range []struct{ at, text string }{{"opens", w.Opens}, {"closes", w.Closes}} {
		if _, err := time.Parse("15:04", x.text); err != nil {
			add(x.at, fmt.Sprintf("%q is not a time of the day", x.text), "write it as 22:00")
		}
	}
	if len(w.Days) == 0 || slices.ContainsFunc(w.Days, func(x string) bool { return !slices.Contains(days, x) }) {
		add("days", "a window opens on some days of the week", "choose one at least")
	}
	return problems
}

// words says when a window opens, or what a freeze is.
func (w *Window) words() string {
	if w.First != "" {
		return fmt.Sprintf("frozen from %s to %s", w.First, w.Last)
	}
	return fmt.Sprintf("%s %s to %s (%s)", strings.Join(w.Days, ", "), w.Opens, w.Closes, w.Zone)
}

// freezes reports whether a freeze holds at a time.
func (w *Window) freezes(at time.Time) bool {
	if w.First == "" {
		return false
	}
	day := at.In(w.zone()).Format(time.DateOnly)
	return w.First <= day && day <= w.Last
}

// opensAt reports whether a window is open at a time. One that closes before it opens does so on
// the next day.
func (w *Window) opensAt(at time.Time) bool {
	local := at.In(w.zone())
	clock, today, yesterday := local.Format("15:04"), days[local.Weekday()], days[(local.Weekday()+6)%7]
	if w.Opens < w.Closes {
		return slices.Contains(w.Days, today) && w.Opens <= clock && clock < w.Closes
	}
	return slices.Contains(w.Days, today) && w.Opens <= clock || slices.Contains(w.Days, yesterday) && clock < w.Closes
}

func (w *Window) zone() *time.Location {
	z, err := time.LoadLocation(w.Zone)
	if err != nil {
		return time.UTC
	}
	return z
}

// shut says why nothing that concerns some segments may be applied at a time; "" if it may. A
// segment that has windows of its own needs none of those for all.
func shut(all []Window, segments []string, at time.Time) string {
	for _, segment := range append([]string{""}, segments...) {
		var windows []Window
		for i := range all {
			w := &all[i]
			if w.Segment != segment {
				continue
			}
			if w.freezes(at) {
				return strings.TrimSuffix(fmt.Sprintf("%s: %s; %s", segmentOr(segment), w.words(), w.Why), "; ")
			}
			if w.First == "" {
				windows = append(windows, *w)
			}
		}
		if segment == "" && len(segments) > 0 { // asked of each segment below
			continue
		}
		if len(windows) == 0 && segment != "" {
			for i := range all {
				if all[i].Segment == "" && all[i].First == "" {
					windows = append(windows, all[i])
				}
			}
		}
		if len(windows) > 0 && !slices.ContainsFunc(windows, func(w Window) bool { return w.opensAt(at) }) {
			var words []string
			for i := range windows {
				words = append(words, windows[i].words())
			}
			return fmt.Sprintf("%s may only be changed in a window: %s", segmentOr(segment), strings.Join(words, "; "))
		}
	}
	return ""
}

func segmentOr(segment string) string {
	if segment == "" {
		return "the estate"
	}
	return "segment " + segment
}

// concerned returns the segments of flows that a draft changes; all of them where not all flows
// are listed.
func (x *draft) concerned(j *judgement) []string {
	e := j.consequence.Effect
	if e == nil {
		return nil
	}
	known := x.snapshot.Judge.Net.Segments
	if e.More > 0 {
		return slices.Clone(known)
	}
	var out []string
	for i := range e.Flows {
		for _, s := range []string{e.Flows[i].From, e.Flows[i].To} {
			if slices.Contains(known, s) && !slices.Contains(out, s) {
				out = append(out, s)
			}
		}
	}
	slices.Sort(out)
	return out
}

// outside says why a draft may not be applied now, by windows and freezes; "" if it may.
func (d *Desk) outside(ctx context.Context, x *draft, j *judgement) (string, error) {
	all, err := d.Windows(ctx)
	if err != nil || len(all) == 0 {
		return "", err
	}
	return shut(all, x.concerned(j), d.clock()), nil
}
