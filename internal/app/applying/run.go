package applying

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"bivium/core/native/plan"
	"bivium/internal/app/targets"
	"bivium/internal/app/view"
	"bivium/internal/drivers"
	"bivium/internal/notices"
	"bivium/internal/people"
	"bivium/internal/store"
)

// run is a plan that is carried out.
type run struct {
	id, to int64
	again  bool // taken up by another run of the server: writes may have been under way
	stored
	mu     sync.Mutex
	state  string
	writes []store.PlanWrite
	next   []time.Time // when a write that failed is tried again
	busy   map[string]bool
	opened map[string]*openedTarget // targets that were written, by name
	cancel context.CancelFunc
	done   chan struct{} // closed when nobody works on it
	wake   chan struct{}
}

// current returns the plan that is carried out, or was last; nil for none.
func (s *Service) current() *run {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.run
}

// open reports whether something of the plan may still be written.
func (r *run) open() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.state != store.PlanDone && r.state != store.PlanSuperseded
}

// stop ends the work, once what is being written is.
func (r *run) stop() {
	if r.cancel != nil {
		r.cancel()
		<-r.done
	}
}

// takeUp makes a stored plan the current one, and works on it if it is to run. again says that
// the server was working on it when it ended.
func (s *Service) takeUp(ctx context.Context, row *store.Plan, again bool) error {
	r := &run{id: row.ID, again: again, to: row.Revision, state: row.State, busy: map[string]bool{}, wake: make(chan struct{}, 1)}
	if err := json.Unmarshal(row.Body, &r.stored); err != nil {
		return fmt.Errorf("read plan %d: %w", row.ID, err)
	}
	var err error
	if r.writes, err = s.store.PlanWrites(ctx, row.ID); err != nil {
		return err
	}
	r.next = make([]time.Time, len(r.writes))
	for i := range r.writes { // what is done may be the ground of what is not
		if w := &r.writes[i]; w.State == store.WriteDone {
			r.Versions[r.Writes[i].Key.String()] = w.Version
		}
	}
	s.mu.Lock()
	s.run = r
	s.mu.Unlock()
	s.told()
	if r.state == store.PlanRunning || r.state == store.PlanStuck {
		s.start(r)
	}
	return nil
}

func (s *Service) start(r *run) {
	ctx, cancel := context.WithCancel(s.ctx)
	r.cancel, r.done = cancel, make(chan struct{})
	go func() {
		defer close(r.done)
		s.work(ctx, r)
	}()
}

// backOff is how long a target that does not answer is left alone: first, and at most.
const (
	backOff     = time.Second
	mostBackOff = 30 * time.Second
)

// work carries out a plan: at each target one write at a time, whatever waits for nothing.
func (s *Service) work(ctx context.Context, r *run) {
	var g sync.WaitGroup
	defer g.Wait()
	stage := r.stageOf()
	for {
		if next := r.stageOf(); next != stage {
			g.Wait()
			if !s.checkStage(ctx, r, stage, next == "") {
				return
			}
			stage = next
		}
		ready, wait, left := r.ready(s.clock(), stage)
		if left == 0 {
			g.Wait()
			if err := s.finish(ctx, r); err != nil && ctx.Err() == nil {
				s.log.Error("a plan could not be ended", "plan", r.id, "error", err)
			}
			return
		}
		for _, i := range ready {
			g.Go(func() {
				s.write(ctx, r, i)
				r.mu.Lock()
				delete(r.busy, r.Writes[i].Key.Target())
				r.mu.Unlock()
				r.poke()
			})
		}
		timer := time.NewTimer(wait)
		select {
		case <-ctx.Done():
			timer.Stop()
			return
		case <-r.wake:
		case <-timer.C:
		}
		timer.Stop()
	}
}

func (r *run) poke() {
	select {
	case r.wake <- struct{}{}:
	default:
	}
}

// ready takes the writes that can be begun, one at most at each target, and returns for how long
// nothing else will be ready, and how many writes are left that may ever be.
func (r *run) ready(now time.Time, stage plan.Step) (out []int, wait time.Duration, left int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	wait = mostBackOff
	never := map[int]bool{}
	for i := range r.writes {
		w := &r.writes[i]
		if w.State == store.WriteDone {
			continue
		}
		if w.State == store.WriteRefused || w.State == store.WriteChanged || slices.ContainsFunc(r.Writes[i].Waits, func(k int) bool { return never[k] }) {
			never[i] = true
			continue
		}
		left++
		target := r.Writes[i].Key.Target()
		if stage != "" && r.Writes[i].Step != stage || r.busy[target] || slices.ContainsFunc(r.Writes[i].Waits, func(k int) bool { return r.writes[k].State != store.WriteDone }) {
			continue
		}
		if at := r.next[i]; at.After(now) {
			wait = min(wait, at.Sub(now))
			continue
		}
		r.busy[target] = true
		out = append(out, i)
	}
	return out, wait, left
}

// triesToTell is after how many tries of a write operators are told.
const triesToTell = 3

// attempt is how long one write may take.
const attempt = 15 * time.Second

// write carries out one write, and notes what came of it.
func (s *Service) write(ctx context.Context, r *run, i int) {
	if ctx.Err() != nil {
		return
	}
	w, key := &r.Writes[i], r.Writes[i].Key
	// Once begun it is brought to its end, and noted, even if the plan is stopped meanwhile.
	ctx, cancel := context.WithTimeout(s.life, attempt)
	defer cancel()
	r.mu.Lock()
	version := r.Versions[key.String()]
	r.mu.Unlock()
	began := time.Now()
	next, err := s.putAndRead(ctx, r, w, version)
	if err == nil {
		s.paces.note(key.Target(), time.Since(began))
	}
	r.mu.Lock()
	state := &r.writes[i]
	state.Tries, state.At = state.Tries+1, s.clock()
	state.Why = ""
	var f *store.InForce
	switch {
	case err == nil:
		state.State, state.Version = store.WriteDone, next
		r.Versions[key.String()] = next
		f = s.record(key, w.Body, r.to)
		if w.Gone {
			f = s.record(key, nil, r.to)
		}
		f.Written = true
	case isRefusal(err):
		state.State, state.Why = store.WriteRefused, reason(err)
	case errors.Is(err, drivers.ErrChanged):
		state.State, state.Why = store.WriteChanged, reason(err)
	default:
		state.State, state.Why = store.WriteRetrying, reason(err)
		if state.Tries == triesToTell {
			go s.tells.Tell(s.ctx, s.tells.Operators(), notices.Notice{
				Kind: notices.Failed, Subject: fmt.Sprintf("%s cannot be written", key.Target()), Body: fmt.Sprintf("%s: %s. It is tried again, and revision %d is only partly in force until then.", targets.Title(key), state.Why, r.to),
				Link: fmt.Sprintf("/changes/plans/%d", r.id), Key: fmt.Sprintf("plan %d %s", r.id, key.Target()),
			})
		}
		r.next[i] = s.clock().Add(min(mostBackOff, s.pause<<min(state.Tries-1, 5)))
	}
	noted := *state
	r.mu.Unlock()
	noting, stop := context.WithTimeout(s.life, attempt)
	defer stop()
	if err := s.store.PutWrite(noting, r.id, &noted, f); err != nil && s.life.Err() == nil {
		s.log.Error("a write could not be noted", "plan", r.id, "write", i, "error", err)
	}
	s.told()
}

// isRefusal reports whether a target will not take a write, however often it is asked.
func isRefusal(err error) bool {
	var limit *drivers.LimitError
	var answer *drivers.AnswerError
	return errors.As(err, &limit) || errors.As(err, &answer) || errors.Is(err, drivers.ErrMissing)
}

// errLost says that a target acknowledged a write and holds something else.
var errLost = errors.New("it acknowledged the write but did not store it")

// putAndRead writes a document on the version that was planned on, and reads it back. If it is of
// another version and holds what it held, what it should, or a part of that after a try that
// failed, nobody changed it: the write was under way when the server ended, its answer was lost,
// or it broke off.
func (s *Service) putAndRead(ctx context.Context, r *run, w *plan.Write, version string) (at string, err error) {
	name := w.Key.Target()
	defer func() {
		if err != nil {
			s.forget(r, name)
		}
	}()
	t, known, err := s.opened(ctx, r, name)
	if err != nil {
		return "", err
	}
	_, err = t.put(ctx, w.Key, version, w.Body)
	if known && errors.Is(err, drivers.ErrMissing) { // it may have come since the target was opened
		s.forget(r, name)
		if t, _, err = s.opened(ctx, r, name); err != nil {
			return "", err
		}
		_, err = t.put(ctx, w.Key, version, w.Body)
	}
	if errors.Is(err, drivers.ErrChanged) || errors.Is(err, drivers.ErrMissing) && w.Body == nil {
		now, at, readErr := t.get(ctx, w.Key)
		switch {
		case readErr != nil:
			return "", readErr
		case plan.Same(now, w.Body):
			return at, nil
		case s.untouched(r, w, now), (r.begun(w) || errors.Is(err, drivers.ErrTried)) && plan.PartOf(now, w.Body):
			_, err = t.put(ctx, w.Key, at, w.Body)
		}
	}
	if err != nil {
		return "", err
	}
	now, at, err := t.get(ctx, w.Key)
	if err != nil {
		return "", err
	}
	if !plan.Same(now, w.Body) {
		return "", errLost
	}
	return at, nil
}

// openedTarget is a target with the names that the estate had for what it has.
type openedTarget struct {
	target
	now *view.Snapshot
}

// opened opens a target, unless it was opened for an earlier write and the estate is the same:
// reading what it has takes longer than the write. known says so.
func (s *Service) opened(ctx context.Context, r *run, name string) (t target, known bool, err error) {
	now := s.app.Now()
	r.mu.Lock()
	o := r.opened[name]
	r.mu.Unlock()
	if o != nil && o.now == now {
		return o.target, true, nil
	}
	if t, err = s.open(ctx, name); err != nil {
		return nil, false, err
	}
	r.mu.Lock()
	if r.opened == nil {
		r.opened = map[string]*openedTarget{}
	}
	r.opened[name] = &openedTarget{t, now}
	r.mu.Unlock()
	return t, false, nil
}

// forget has a target opened anew for its next write.
func (s *Service) forget(r *run, name string) {
	r.mu.Lock()
	delete(r.opened, name)
	r.mu.Unlock()
}

// begun reports whether the target may have got a write before.
func (r *run) begun(w *plan.Write) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.again || r.writes[w.Number].Tries > 0
}

// untouched reports whether a document holds what it did when the plan was made, or what an
// earlier write of the plan left.
func (s *Service) untouched(r *run, w *plan.Write, now *plan.Body) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	was := r.Hashes[w.Key.String()]
	for i := range r.Writes[:w.Number] {
		if r.Writes[i].Key == w.Key && r.writes[i].State == store.WriteDone {
			was = ""
			if r.Writes[i].Body != nil {
				was = plan.Hash(r.Writes[i].Body)
			}
		}
	}
	if now == nil {
		return was == ""
	}
	return was == plan.Hash(now)
}

// finish ends a plan of which nothing is left that could be written.
func (s *Service) finish(ctx context.Context, r *run) error {
	state, why := store.PlanDone, ""
	r.mu.Lock()
	undone, unread := 0, false
	for i := range r.writes {
		if r.writes[i].State != store.WriteDone {
			undone++
		}
		unread = unread || r.writes[i].State == store.WriteChanged && r.Unread[r.Writes[i].Key.Target()] != ""
	}
	r.mu.Unlock()
	if undone > 0 {
		state, why = store.PlanStuck, fmt.Sprintf("%d of %d writes cannot be completed", undone, len(r.writes))
	}
	if err := s.move(context.WithoutCancel(ctx), r, state, why); err != nil {
		return err
	}
	for _, account := range r.outdated() { // what it has by now is another plan
		if _, err := s.app.Read(s.ctx, account, "bivium", false); err != nil && s.ctx.Err() == nil {
			s.log.Warn("an account could not be synced again", "account", account, "error", err)
		}
	}
	if unread { // the plan was made without knowing what the target holds; now it can be read
		go s.anew(r)
	}
	return s.audit.Add(context.WithoutCancel(ctx), people.System("bivium"), "plan "+state, fmt.Sprintf("plan %d", r.id), why)
}

// anew plans what is left of a plan again.
func (s *Service) anew(r *run) {
	row, err := s.store.PlanOf(s.ctx, r.id)
	if err == nil {
		_, err = s.Begin(s.ctx, Order{Cause: row.Cause, Actor: row.Actor, PutRight: row.Cause == CauseDrift})
	}
	if err != nil && s.ctx.Err() == nil {
		s.log.Error("what is left of a plan could not be planned again", "plan", r.id, "error", err)
	}
}

func (s *Service) move(ctx context.Context, r *run, state, why string) error {
	if err := s.store.MovePlan(ctx, r.id, state, why, s.clock()); err != nil {
		return err
	}
	r.mu.Lock()
	r.state = state
	r.mu.Unlock()
	if state == store.PlanStuck {
		s.tells.Tell(ctx, s.tells.Operators(), notices.Notice{
			Kind: notices.Failed, Subject: fmt.Sprintf("Revision %d is only partly in force", r.to), Body: "Plan " + fmt.Sprint(r.id) + ": " + why + ".", Link: fmt.Sprintf("/changes/plans/%d", r.id),
		})
	}
	s.told()
	return nil
}

// The orders that a person gives to a plan.
const (
	Start  = "start"
	Pause  = "pause"
	Resume = "resume"
	Stop   = "stop"
	Retry  = "retry"
)

// Steer starts, pauses, resumes, stops or retries the plan that is under way.
func (s *Service) Steer(ctx context.Context, who *people.Who, id int64, order string) error {
	s.planning.Lock()
	defer s.planning.Unlock()
	r := s.current()
	if r == nil || r.id != id || !r.open() {
		return problem("plan", "this plan is not under way any more", "see the last plan")
	}
	r.mu.Lock()
	state := r.state
	r.mu.Unlock()
	next := store.PlanRunning
	switch {
	case order == Retry && state == store.PlanStuck && r.misses():
		r.stop()
		go s.anew(r)
		return s.audit.Add(ctx, who, "plan "+order, fmt.Sprintf("plan %d", id), "planned again")
	case order == Start && state == store.PlanAsks, order == Resume && (state == store.PlanPaused || state == store.PlanStopped):
	case order == Retry && (state == store.PlanStuck || state == store.PlanRunning):
		r.stop()
		r.retry()
	case order == Pause && state == store.PlanRunning:
		next = store.PlanPaused
	case order == Stop && (state == store.PlanRunning || state == store.PlanPaused || state == store.PlanAsks):
		next = store.PlanStopped
	default:
		return problem("order", fmt.Sprintf("a plan that is %s cannot be told to %s", state, order), "")
	}
	if next != store.PlanRunning {
		r.stop()
	}
	why := ""
	if next != store.PlanRunning {
		why = "by " + who.Called
	}
	if err := s.move(ctx, r, next, why); err != nil {
		return err
	}
	if next == store.PlanRunning {
		s.start(r)
	}
	return s.audit.Add(ctx, who, "plan "+order, fmt.Sprintf("plan %d", id), "")
}

// misses reports whether something that the plan relies on is not there any more, or was changed by
// somebody else: it has to be planned again from what there is.
func (r *run) misses() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.ContainsFunc(r.writes, func(w store.PlanWrite) bool {
		return w.State == store.WriteChanged || w.State == store.WriteRefused && w.Why == reason(drivers.ErrMissing)
	})
}

// outdated returns the accounts that have something no longer that the plan was to write.
func (r *run) outdated() []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	found := map[string]bool{}
	for i := range r.writes {
		if account := r.Writes[i].Key.Account; account != "" && r.writes[i].State == store.WriteRefused && r.writes[i].Why == reason(drivers.ErrMissing) {
			found[account] = true
		}
	}
	return slices.Sorted(maps.Keys(found))
}

// retry lets what was refused or failed be tried again at once.
func (r *run) retry() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for i := range r.writes {
		if w := &r.writes[i]; w.State == store.WriteRefused || w.State == store.WriteRetrying {
			w.State, r.next[i] = store.WriteWaiting, time.Time{}
		}
	}
}
