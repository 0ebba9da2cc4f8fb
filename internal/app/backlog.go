package app

import (
	"runtime"
	"sync"
	"time"

	"bivium/core/estate"
	"bivium/internal/app/lanes"
	"bivium/internal/app/rules"
	"bivium/internal/app/view"
)

// backlog works out what takes longer than an edit, of one snapshot after the other. What
// is asked of a snapshot that has gone since is not begun any more.
type backlog struct {
	mu      sync.Mutex
	wanted  *view.Snapshot // nil where nothing is left to do
	works   bool
	last    [2]*view.Snapshot // by part: the last of which it is known
	changed chan struct{}     // closed when one of these changes
}

// backlogPatience is how long one waits for what follows from the last edit before one is shown
// what followed from those before.
const backlogPatience = 120 * time.Millisecond

// Want lets what takes longer be worked out of a snapshot, so that it is known once it is asked
// for.
func (a *App) Want(s *view.Snapshot) { a.want(s) }

// want lets what takes longer be worked out of a snapshot.
func (a *App) want(s *view.Snapshot) {
	b := &a.backlog
	b.mu.Lock()
	defer b.mu.Unlock()
	if s.Later.Failed.Load() != nil { // it would again
		return
	}
	b.wanted = s
	if !b.works {
		b.works = true
		go a.work()
	}
}

// work works out what is wanted until nothing is.
func (a *App) work() {
	b := &a.backlog
	for {
		b.mu.Lock()
		s := b.wanted
		b.wanted = nil
		if s == nil {
			b.works = false
			b.mu.Unlock()
			return
		}
		b.mu.Unlock()
		err := a.guarded("checking the estate", func() error {
			s.Passages(a.pace)
			a.found(s, view.PartPassages)
			s.FindIssues(a.pace)
			a.found(s, view.PartIssues)
			return nil
		})
		if err != nil {
			a.fail(s, err)
		}
	}
}

// found notes that a part of a snapshot is known.
func (a *App) found(s *view.Snapshot, part int) {
	b := &a.backlog
	b.mu.Lock()
	defer b.mu.Unlock()
	s.Later.Found[part].Store(true)
	b.last[part] = s
	b.tell()
}

// fail notes that what takes longer cannot be worked out of a snapshot.
func (a *App) fail(s *view.Snapshot, err error) {
	b := &a.backlog
	b.mu.Lock()
	defer b.mu.Unlock()
	s.Later.Failed.Store(&err)
	b.tell()
}

// tell wakes whoever waits. The lock is held.
func (b *backlog) tell() {
	close(b.changed)
	b.changed = make(chan struct{})
}

// mostPaced is how long work waits for edits at one stroke, so that it comes to its end
// even where somebody always edits.
const mostPaced = 300 * time.Millisecond

// pace lets edits go before work that nobody may be waiting for.
func (a *App) pace() {
	for begun := time.Now(); a.urgent.Load() > 0 && time.Since(begun) < mostPaced; {
		time.Sleep(time.Millisecond)
	}
	runtime.Gosched()
}

// Urgent tells that an edit is worked out or tried, until what it returns is called.
func (a *App) Urgent() (done func()) {
	a.urgent.Add(1)
	return func() { a.urgent.Add(-1) }
}

// known returns a snapshot of which a part of what takes longer is known: the one given, if
// that does not take long, or the last before it. It fails if it cannot be worked out of the
// one given.
func (a *App) known(now *view.Snapshot, part int) (*view.Snapshot, error) {
	if now.Later.Found[part].Load() {
		return now, nil
	}
	a.want(now)
	timer := time.NewTimer(backlogPatience)
	defer timer.Stop()
	late := timer.C
	for {
		a.backlog.mu.Lock()
		last, changed := a.backlog.last[part], a.backlog.changed
		a.backlog.mu.Unlock()
		if now.Later.Found[part].Load() {
			return now, nil
		}
		if err := now.Later.Failed.Load(); err != nil {
			return nil, *err
		}
		select {
		case <-changed:
		case <-late:
			if late = nil; last != nil {
				return last, nil
			}
		}
		if late == nil && last == nil { // nothing is known yet of any
			a.want(now)
		}
	}
}

// IssuePage returns a page of the issues, of the snapshot or, where it takes longer to
// look at what its last edit touched, of one before; see Snapshot.issuePage.
func (a *App) IssuePage(now *view.Snapshot, filter *view.IssueFilter) (*view.IssuePage, error) {
	s, err := a.known(now, view.PartIssues)
	if err != nil {
		return nil, err
	}
	page := s.IssuePage(filter)
	page.Counting = s != now
	return page, nil
}

// Lanes returns how a snapshot hangs together; see Snapshot.Lanes. Where it takes longer to
// find what pools see since its last edit, that is what they saw before.
func (a *App) Lanes(now *view.Snapshot) (*lanes.Lanes, error) {
	s, err := a.known(now, view.PartPassages)
	if err != nil {
		return nil, err
	}
	return lanes.With(now, s.Passages(view.NoPace), s != now), nil
}

// Scope returns where an object of a snapshot is at work; see rules.ScopeOf. What pools see is as old
// as for Lanes.
func (a *App) Scope(now *view.Snapshot, of estate.Ref) (*rules.Scope, error) {
	s, err := a.known(now, view.PartPassages)
	if err != nil {
		return nil, err
	}
	return rules.ScopeOf(now, of, s.Passages(view.NoPace)), nil
}

// Rows returns a window of the tree of a snapshot; see Snapshot.Rows.
func (a *App) Rows(now *view.Snapshot, look view.Look) *view.Rows {
	rows := now.Rows(look)
	if rows.Counting {
		a.want(now)
	}
	return rows
}
