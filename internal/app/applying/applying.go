// Package applying leads targets to what the estate asks of them: it reads what they hold, plans
// the writes, carries them out one by one, reads each back, and goes on after a crash. The order
// of writes is core/native/plan's; how it is kept to is in docs/decisions/12-applying.md.
package applying

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"maps"
	"sync"
	"time"

	"bivium/core/native/plan"
	"bivium/internal/app"
	"bivium/internal/app/packets"
	"bivium/internal/app/targets"
	"bivium/internal/app/view"
	"bivium/internal/notices"
	"bivium/internal/people"
	"bivium/internal/store"
)

// Service follows the estate, and writes what it asks of targets. It is safe for concurrent use.
type Service struct {
	app   *app.App
	store *store.Store
	books *targets.Books
	audit *people.Audit
	log   *slog.Logger
	clock func() time.Time
	told  func() // that something changed
	stage Stage
	tells *notices.Service
	pause time.Duration
	asOf  func(ctx context.Context, revision int64) (*view.Snapshot, error)
	back  func(ctx context.Context, revision int64, why string) error
	life  context.Context    // of what is being written
	ctx   context.Context    // ends when nothing more is begun
	end   context.CancelFunc // ends ctx

	planning sync.Mutex // one plan is made at a time

	paces paces

	mu       sync.Mutex
	run      *run           // the plan that is carried out, or was last
	before   *view.Snapshot // the estate that the plan begins with, where that is known
	followed *view.Snapshot // the estate that was looked at last
	wanted   *wanted        // of the applied estate, once it was asked for
	note     string         // why it is not followed; "" where it is
}

// Config is what a Service works with.
type Config struct {
	App   *app.App
	Store *store.Store
	Books *targets.Books
	Audit *people.Audit
	Log   *slog.Logger
	Clock func() time.Time
	Told  func() // is called when something changed; nil for nobody
	// Notices tells operators what could not be written; nil tells nobody.
	Notices *notices.Service
	// BackOff is how long a target that does not answer is left alone first; 0 for a second.
	BackOff time.Duration
	// Stage sends packets between the steps of a plan that is carried out stage by stage; nil for none.
	Stage Stage
	// AsOf returns the estate of a revision, with which a plan in stages goes on after a restart; nil
	// judges only its end then.
	AsOf func(ctx context.Context, revision int64) (*view.Snapshot, error)
	// Back takes a revision back whose packets do not come out as predicted; nil for nothing.
	Back func(ctx context.Context, revision int64, why string) error
}

// Stage sends packets while targets are led from one estate to another, see packets.Service.Stage.
type Stage func(ctx context.Context, before, after *view.Snapshot, known map[string]bool, last bool, plan int64) (wrong []packets.Result, sent int, err error)

// New returns a service. Nothing is written before Start.
func New(c Config) *Service {
	if c.Told == nil {
		c.Told = func() {}
	}
	if c.BackOff == 0 {
		c.BackOff = backOff
	}
	return &Service{pause: c.BackOff, app: c.App, store: c.Store, books: c.Books, audit: c.Audit, log: c.Log, clock: c.Clock, told: c.Told, stage: c.Stage, tells: c.Notices, back: c.Back, asOf: c.AsOf, life: context.Background(), ctx: context.Background(), end: func() {}}
}

// pace is how often the estate is looked at.
const pace = 400 * time.Millisecond

// Start takes up what was under way when the server ended, and follows the estate until Close. When
// ctx ends, what is being written is broken off: it is not known then whether it was written. The first time ever, what targets should hold now is taken to be in force: what they really
// hold is told as drift.
func (s *Service) Start(ctx context.Context) error {
	s.life = ctx
	ctx, s.end = context.WithCancel(ctx)
	s.ctx = ctx
	if err := s.adopt(ctx, s.app.Now()); err != nil {
		s.setNote(err.Error())
	}
	last, err := s.store.Plans(ctx, 1)
	if err != nil {
		return err
	}
	if len(last) > 0 && last[0].State != store.PlanDone && last[0].State != store.PlanSuperseded {
		if err := s.takeUp(ctx, &last[0], true); err != nil {
			return err
		}
	}
	go s.follow(ctx)
	return nil
}

// Close begins nothing more, and returns once what is being written is written and noted, or has failed.
func (s *Service) Close() {
	s.end()
	s.planning.Lock()
	defer s.planning.Unlock()
	r := s.current()
	if r != nil {
		r.stop()
	}
}

// adopt notes what targets of which nothing is known yet should hold as in force: whoever connects
// an account has not asked for its lists to be replaced. What it really holds is told as drift.
func (s *Service) adopt(ctx context.Context, now *view.Snapshot) error {
	connected, err := s.connected(ctx, now)
	if err != nil || len(connected) == 0 {
		return err
	}
	known, err := s.digestsInForce(ctx)
	if err != nil {
		return err
	}
	for key := range known {
		delete(connected, key.Target())
	}
	if len(connected) == 0 {
		return nil
	}
	wants, err := s.wants(now)
	if err != nil {
		return err
	}
	var all []store.InForce
	for key, body := range wants.documents {
		if connected[key.Target()] {
			all = append(all, *s.record(key, body, now.Revision))
		}
	}
	return s.store.PutInForce(ctx, all)
}

// document is a document as it is stored.
type document struct {
	Key  plan.Key   `json:"key"`
	Body *plan.Body `json:"body"`
}

func (s *Service) record(key plan.Key, body *plan.Body, revision int64) *store.InForce {
	f := &store.InForce{Document: key.String(), Revision: revision, At: s.clock()}
	if body != nil {
		text, err := json.Marshal(document{key, body})
		if err != nil {
			panic(err) // plain data
		}
		f.Hash, f.Body = plan.Hash(body), text
	}
	return f
}

// known is a document that is in force.
type known struct {
	store.InForce
	document
}

func (s *Service) inForce(ctx context.Context) (map[plan.Key]*known, error) {
	rows, err := s.store.AllInForce(ctx)
	if err != nil {
		return nil, err
	}
	out := make(map[plan.Key]*known, len(rows))
	for i := range rows {
		k := &known{InForce: rows[i]}
		if err := json.Unmarshal(rows[i].Body, &k.document); err != nil {
			return nil, err
		}
		if k.Hash == "" { // of before digests were what they are now
			k.Hash = plan.Hash(k.document.Body)
		}
		out[k.Key] = k
	}
	return out, nil
}

// digestsInForce returns the digests of the documents that are known to be in force.
func (s *Service) digestsInForce(ctx context.Context) (map[plan.Key]string, error) {
	names, err := s.store.DigestsInForce(ctx)
	if err != nil {
		return nil, err
	}
	out := make(map[plan.Key]string, len(names))
	for name, digest := range names {
		if digest == "" { // it is worked out of what it holds
			known, err := s.inForce(ctx)
			return digestsOf(known), err
		}
		out[plan.KeyOf(name)] = digest
	}
	return out, nil
}

func digestsOf(all map[plan.Key]*known) map[plan.Key]string {
	out := make(map[plan.Key]string, len(all))
	for key, k := range all {
		out[key] = k.Hash
	}
	return out
}

// wanted is what targets have to hold at a revision.
type wanted struct {
	of        *view.Snapshot
	documents map[plan.Key]*plan.Body
	digests   map[plan.Key]string
	unfit     *unfit
}

// wants returns what targets have to hold at a revision. Of accounts that are observed only,
// nothing is asked. That of the applied estate is kept.
func (s *Service) wants(now *view.Snapshot) (*wanted, error) {
	s.mu.Lock()
	kept := s.wanted
	s.mu.Unlock()
	if kept != nil && kept.of == now {
		return kept, nil
	}
	b, err := s.books.Of(now)
	if err != nil {
		return nil, err
	}
	cfg, refused := b.Config()
	documents := plan.Documents(plan.State{Config: cfg, Estate: now.Estate})
	maps.DeleteFunc(documents, func(key plan.Key, _ *plan.Body) bool { return now.Estate.Observes(key.Account) })
	if kept == nil {
		kept = &wanted{}
	}
	out := &wanted{now, documents, plan.Hashes(documents, kept.documents, kept.digests), unfitOf(refused, now.Estate, documents)}
	if now == s.app.Now() {
		s.mu.Lock()
		s.wanted = out
		s.mu.Unlock()
	}
	return out, nil
}

// connected returns the targets that are written: those that are connected, but for accounts that
// are observed only.
func (s *Service) connected(ctx context.Context, now *view.Snapshot) (map[string]bool, error) {
	out := map[string]bool{}
	accounts, err := s.app.Accounts(ctx)
	if err != nil {
		return nil, err
	}
	for i := range accounts {
		if accounts[i].Endpoint != "" && !accounts[i].Gone && !now.Estate.Observes(accounts[i].Name) {
			out[accounts[i].Name] = true
		}
	}
	_, err = s.app.Hubs(ctx)
	if err == nil {
		out[plan.Hubs] = true
	} else if !errors.Is(err, app.ErrNotConnected) {
		return nil, err
	}
	return out, nil
}

// follow makes a plan for each revision that asks something else of targets.
func (s *Service) follow(ctx context.Context) {
	tick := time.NewTicker(pace)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		now := s.app.Now()
		s.mu.Lock()
		was := s.followed
		s.mu.Unlock()
		if now == was {
			continue
		}
		if err := s.followTo(ctx, was, now); err != nil {
			if ctx.Err() == nil {
				s.log.Error("the estate is not followed", "revision", now.Revision, "error", err)
				s.setNote(err.Error())
				tick.Reset(5 * pace) // it is tried again, and less often
			}
			continue
		}
		tick.Reset(pace)
		s.mu.Lock()
		s.followed = now
		s.mu.Unlock()
	}
}

func (s *Service) setNote(why string) {
	s.mu.Lock()
	s.note = why
	s.mu.Unlock()
	s.told()
}

// followTo plans what leads to a revision, if targets have to hold something else than is in
// force, and carries it out unless a person must start it.
func (s *Service) followTo(ctx context.Context, was, now *view.Snapshot) error {
	connected, err := s.connected(ctx, now)
	if err != nil || len(connected) == 0 {
		return err
	}
	if err := s.adopt(ctx, now); err != nil {
		return err
	}
	wants, err := s.wants(now)
	if err != nil {
		return err
	}
	known, err := s.digestsInForce(ctx)
	if err != nil {
		return err
	}
	s.setNote("")
	if len(wants.behind(known, connected)) == 0 {
		return s.settled(ctx, now)
	}
	r := s.current()
	if r != nil && r.to == now.Revision && r.open() {
		return nil // it was taken up
	}
	o, err := s.orderOf(ctx, now.Revision)
	if err != nil {
		return err
	}
	o.Before = was
	_, err = s.Begin(ctx, *o)
	return err
}

// settled ends a plan that is not needed any more: what it was to write is not asked now. One that
// leads to what is asked now stays: it puts drift right, which nothing that is known tells of.
func (s *Service) settled(ctx context.Context, now *view.Snapshot) error {
	r := s.current()
	if r == nil || !r.open() || r.to == now.Revision {
		return nil
	}
	r.stop()
	return s.move(ctx, r, store.PlanSuperseded, "the applied estate no longer needs it")
}

// orderOf returns what brought a revision, who, and how it is to be written.
func (s *Service) orderOf(ctx context.Context, revision int64) (*Order, error) {
	row, err := s.store.RevisionOf(ctx, revision)
	if errors.Is(err, store.ErrNotFound) {
		return &Order{Cause: CauseEdit}, nil
	}
	if err != nil {
		return nil, err
	}
	o := &Order{Cause: CauseSync, Actor: row.Actor}
	switch row.What {
	case store.Edit:
		o.Cause = CauseEdit
	case "routers":
		o.Cause = CauseRouter
	}
	if len(row.Note) > 0 {
		var note struct{ Staged bool }
		if err := json.Unmarshal(row.Note, &note); err != nil {
			return nil, err
		}
		o.Staged = note.Staged && s.stage != nil
	}
	return o, nil
}

// behind returns the documents that targets should hold and do not, as far as is known.
func (w *wanted) behind(known map[plan.Key]string, connected map[string]bool) []plan.Key {
	var out []plan.Key
	for key, digest := range w.digests {
		if is, there := known[key]; w.writable(key, connected) && (!there || is != digest) {
			out = append(out, key)
		}
	}
	for key := range known {
		if w.documents[key] == nil && w.writable(key, connected) {
			out = append(out, key)
		}
	}
	return out
}

// writable reports whether Bivium writes a document: of a target that is connected, and not of a
// network whose rules do not fit.
func (w *wanted) writable(key plan.Key, connected map[string]bool) bool {
	return connected[key.Target()] && !w.unfit.has(key)
}
