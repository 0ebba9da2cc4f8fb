package app

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"bivium/core/estate"
	"bivium/core/learning"
	"bivium/internal/app/view"
	"bivium/internal/speaker"
)

// Sessions is what hubs hear from routers.
type Sessions struct {
	Revision int64         `json:"revision"` // of the estate by now
	On       bool          `json:"on"`       // the server listens for routers at all
	Hubs     []SpeakerView `json:"hubs"`
	Sessions []SessionView `json:"sessions"`
}

// SpeakerView is a hub that listens, or is to.
type SpeakerView struct {
	Hub     string `json:"hub"`
	AS      int    `json:"as"`
	Address string `json:"address"`
	Listens bool   `json:"listens"`
	Why     string `json:"why"` // it does not
}

// SessionView is a router that may announce prefixes.
type SessionView struct {
	Network   string    `json:"network"`
	Hub       string    `json:"hub"`
	Segment   string    `json:"segment"`
	Router    string    `json:"router"`
	AS        int       `json:"as"`
	May       []string  `json:"may"`
	Limit     int       `json:"limit"`
	State     string    `json:"state"` // up, down, or never for one that has not come up yet
	Why       string    `json:"why"`   // it is not up
	Since     time.Time `json:"since"` // up or down; the zero time for never
	Flaps     int       `json:"flaps"` // how often it went down
	Announced int       `json:"announced"`
	Over      int       `json:"over"`  // left out because they are too many
	Unfit     int       `json:"unfit"` // left out because they are no prefixes that can be used
	Damped    []Damped  `json:"damped"`
	Accepted  int       `json:"accepted"`
	Waiting   int       `json:"waiting"`
	Refused   int       `json:"refused"`
	Withdrawn int       `json:"withdrawn"`
}

// Damped is a prefix that is left out because it comes and goes, until it has been
// quiet for so long.
type Damped struct {
	Prefix string    `json:"prefix"`
	Until  time.Time `json:"until"`
}

// mostDamped is how many damped prefixes of a session are named.
const mostDamped = 20

// Sessions returns what hubs hear from routers.
func (a *App) Sessions() *Sessions {
	now := a.Now()
	l := a.learner.Load()
	out := &Sessions{Revision: now.Revision, On: l != nil, Hubs: []SpeakerView{}, Sessions: []SessionView{}}
	issue := map[string]string{}
	for i := range now.Estate.Hubs {
		h := &now.Estate.Hubs[i]
		if h.AS == 0 || h.Speaker == "" {
			continue
		}
		v := SpeakerView{Hub: h.Name, AS: h.AS, Address: h.Speaker, Why: "BGP is off: the server was started without --bgp"}
		if l != nil {
			var at netip.AddrPort
			if at, v.Listens = l.speakers.Address(h.Name); v.Listens {
				v.Address = at.String()
			}
			v.Why = l.speakers.Issue(h.Name)
		}
		issue[h.Name] = v.Why
		out.Hubs = append(out.Hubs, v)
	}
	eachSession(now.Estate, func(x *estate.Attachment, s *estate.Session) {
		v := SessionView{Network: x.Network, Hub: x.Hub, Segment: s.Segment, Router: s.Router.String(), AS: s.AS, May: view.Prefixes(s.May), Limit: s.Limit, State: "never", Damped: []Damped{}}
		count(&v, x.Learned)
		if l != nil {
			l.tell(&v, speaker.Key{Hub: x.Hub, Router: s.Router})
		}
		if v.State != "up" && issue[x.Hub] != "" {
			v.Why = issue[x.Hub]
		}
		out.Sessions = append(out.Sessions, v)
	})
	slices.SortFunc(out.Sessions, func(a, b SessionView) int {
		return cmp.Or(cmp.Compare(a.Network, b.Network), cmp.Compare(a.Hub, b.Hub), cmp.Compare(a.Router, b.Router))
	})
	return out
}

// count counts the learned prefixes of a session's segment.
func count(v *SessionView, list []estate.Learned) {
	for i := range list {
		if list[i].Segment != v.Segment {
			continue
		}
		switch list[i].Status {
		case "accepted":
			v.Accepted++
		case "waiting":
			v.Waiting++
		case "refused":
			v.Refused++
		case "withdrawn":
			v.Withdrawn++
		}
	}
}

// tell puts what a session says of itself into its view.
func (l *learner) tell(v *SessionView, key speaker.Key) {
	l.mu.Lock()
	defer l.mu.Unlock()
	x := l.voices[key]
	if x == nil {
		return
	}
	now := l.app.Clock()
	f := x.intake.Figures(now)
	v.Since, v.Flaps, v.Announced, v.Over, v.Unfit, v.Why = f.Since, f.Flaps, f.Announced, f.Over, f.Unfit, x.why
	switch {
	case f.Up:
		v.State = "up"
	case !f.Since.IsZero():
		v.State = "down"
	}
	if !x.readmit.IsZero() {
		v.Why += "; retries at " + x.readmit.Format("15:04")
	}
	if f.Damped > 0 {
		v.Damped = dampedOf(x.intake, now)
	}
}

func dampedOf(i *learning.Intake, now time.Time) []Damped {
	all := i.Damped(now)
	prefixes := make([]netip.Prefix, 0, len(all))
	for p := range all {
		prefixes = append(prefixes, p)
	}
	slices.SortFunc(prefixes, estate.ComparePrefixes)
	out := []Damped{}
	for _, p := range prefixes[:min(len(prefixes), mostDamped)] {
		out = append(out, Damped{p.String(), all[p]})
	}
	return out
}
