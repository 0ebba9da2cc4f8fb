package app

import (
	"context"
	"net/netip"
	"slices"
	"sync"
	"time"

	"bivium/core/estate"
	"bivium/core/learning"
	"bivium/internal/app/view"
	"bivium/internal/speaker"
)

// How often what routers say is taken in (L7), and how often it is looked at while
// something may run out.
const (
	settleAfter = 2 * time.Second
	settleEvery = 10 * time.Second
	lookEvery   = 5 * time.Second
	readmitIn   = 15 * time.Minute // a session that brought far too much
	lookTick    = 250 * time.Millisecond
)

// byRouters is who makes the revisions that come of what routers say.
const byRouters = "routers"

// learner hears the routers of sites, and takes in what they say.
type learner struct {
	app      *App
	speakers *speaker.Speakers
	done     chan struct{}
	stop     context.CancelFunc

	mu       sync.Mutex
	voices   map[speaker.Key]*voice
	first    time.Time // something was said that is not taken in yet; zero if nothing was
	last     time.Time // the same, for the last time
	settled  time.Time
	looked   time.Time
	restless bool  // something may run out
	followed int64 // revision of the estate whose sessions are kept up
}

// voice is one session.
type voice struct {
	intake  *learning.Intake
	why     string    // it is down
	readmit time.Time // when it may come back; zero if it need not wait
}

// Learn lets hubs listen for routers from now on, at a port, 0 for free ones, until
// Close is called. It returns once those of the estate listen.
func (a *App) Learn(port int) {
	ctx, stop := context.WithCancel(context.Background())
	l := &learner{app: a, voices: map[speaker.Key]*voice{}, done: make(chan struct{}), stop: stop}
	l.speakers = speaker.New(port, a.Log, l)
	a.learner.Store(l)
	l.follow()
	go l.run(ctx)
}

// Speaker returns where a hub listens for routers, and whether it does.
func (a *App) Speaker(hub string) (netip.AddrPort, bool) {
	if l := a.learner.Load(); l != nil {
		return l.speakers.Address(hub)
	}
	return netip.AddrPort{}, false
}

func (l *learner) close() {
	l.stop()
	<-l.done
	l.speakers.Close()
}

func (l *learner) run(ctx context.Context) {
	defer close(l.done)
	tick := time.NewTicker(lookTick)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		err := l.app.guarded("receiving routes", func() error {
			l.follow()
			if l.due() {
				return l.settle(ctx)
			}
			return nil
		})
		if err != nil && ctx.Err() == nil {
			l.again()
			l.app.Log.Error("announced prefixes could not be applied", "error", err)
		}
	}
}

// follow keeps the sessions those of the estate.
func (l *learner) follow() {
	now := l.app.Now()
	l.mu.Lock()
	if l.followed == now.Revision {
		l.mu.Unlock()
		return
	}
	known := map[speaker.Key]bool{}
	eachSession(now.Estate, func(a *estate.Attachment, s *estate.Session) {
		key := speaker.Key{Hub: a.Hub, Router: s.Router}
		known[key] = true
		if v := l.voices[key]; v != nil {
			v.intake.SetLimit(s.Limit, l.app.Clock())
		} else {
			l.voices[key] = &voice{intake: learning.NewIntake(s.Limit)}
		}
	})
	for key := range l.voices {
		if !known[key] {
			delete(l.voices, key)
		}
	}
	l.followed = now.Revision
	l.note() // what a router may announce can be otherwise
	l.mu.Unlock()
	l.speakers.Follow(now.Estate)
}

func eachSession(e *estate.Estate, f func(*estate.Attachment, *estate.Session)) {
	for i := range e.Attachments {
		for k := range e.Attachments[i].Sessions {
			f(&e.Attachments[i], &e.Attachments[i].Sessions[k])
		}
	}
}

// note notes that something was said. The learner must be locked.
func (l *learner) note() {
	now := l.app.Clock()
	if l.first.IsZero() {
		l.first = now
	}
	l.last, l.restless = now, true
}

// Up implements speaker.Listener.
func (l *learner) Up(key speaker.Key) {
	l.hear(key, func(v *voice, now time.Time) {
		v.why, v.readmit = "", time.Time{}
		v.intake.Up(now)
	})
}

// Down implements speaker.Listener.
func (l *learner) Down(key speaker.Key, why string) {
	l.hear(key, func(v *voice, now time.Time) {
		v.why = why
		if why == speaker.TooMany {
			v.readmit = now.Add(readmitIn)
		}
		v.intake.Down(now)
	})
}

// Heard implements speaker.Listener.
func (l *learner) Heard(key speaker.Key, announced, withdrawn []netip.Prefix) {
	l.hear(key, func(v *voice, now time.Time) {
		for _, p := range withdrawn {
			v.intake.Withdraw(p, now)
		}
		for _, p := range announced {
			v.intake.Announce(p, now)
		}
	})
}

func (l *learner) hear(key speaker.Key, f func(*voice, time.Time)) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if v := l.voices[key]; v != nil {
		f(v, l.app.Clock())
		l.note()
	}
}

// due reports whether it is time to take in what was said, or to look whether
// something has run out. It lets sessions come back that have waited.
func (l *learner) due() bool {
	now := l.app.Clock()
	var admit []speaker.Key
	l.mu.Lock()
	for key, v := range l.voices {
		if !v.readmit.IsZero() && !now.Before(v.readmit) {
			v.readmit = time.Time{}
			admit = append(admit, key)
		}
	}
	said := !l.first.IsZero() && (now.Sub(l.last) >= settleAfter || now.Sub(l.first) >= settleEvery) && now.Sub(l.settled) >= settleEvery
	look := l.restless && now.Sub(l.looked) >= lookEvery
	l.mu.Unlock()
	for _, key := range admit {
		l.speakers.Admit(key)
	}
	return said || look
}

// again lets what could not be taken in be tried again.
func (l *learner) again() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.restless = true
}

// settle takes what was said into the estate.
func (l *learner) settle(ctx context.Context) error {
	a := l.app
	var tally learning.Tally
	err := a.advance(ctx, &step{what: byRouters, actor: byRouters, based: current, plan: leadsTo(func(now *view.Snapshot) (next *estate.Estate, err error) {
		if next, tally = l.weigh(now); tally == (learning.Tally{}) {
			return now.Estate, nil
		}
		return next, nil
	})})
	if err != nil || tally == (learning.Tally{}) {
		return err
	}
	l.mu.Lock()
	l.settled = a.Clock()
	l.mu.Unlock()
	a.Log.Info("routers announced or withdrew prefixes", "accepted", tally.Accepted, "waiting", tally.Waiting, "withdrawn", tally.Withdrawn, "left", tally.Left, "back", tally.Back)
	return nil
}

// weigh returns the estate after what was said, and what differs.
func (l *learner) weigh(s *view.Snapshot) (*estate.Estate, learning.Tally) {
	now := l.app.Clock()
	ground := learning.Lay(s.Estate, s.Judge.Net)
	next := *s.Estate
	next.Attachments = slices.Clone(next.Attachments)
	var all learning.Tally
	l.mu.Lock()
	defer l.mu.Unlock()
	l.first, l.looked, l.restless = time.Time{}, now, false
	for i := range next.Attachments {
		x := &next.Attachments[i]
		var terms []learning.Voice
		for k := range x.Sessions {
			v := l.voices[speaker.Key{Hub: x.Hub, Router: x.Sessions[k].Router}]
			if v == nil { // an edit came between; the next look knows of it
				l.restless = true
				return s.Estate, learning.Tally{}
			}
			terms = append(terms, learning.Voice{Session: &x.Sessions[k], Intake: v.intake})
			l.restless = l.restless || v.intake.Restless(now)
		}
		if len(terms) == 0 {
			continue
		}
		list, tally := learning.Settle(x.Learned, terms, now, ground(x.Network))
		if tally != (learning.Tally{}) {
			x.Learned = list
			all.Add(tally)
		}
	}
	return &next, all
}
