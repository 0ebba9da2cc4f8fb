// Package app is what a user can do with an estate, as functions: ask, look at
// the board, try an edit, and save it.
package app

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"bivium/core/analysis"
	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/inventory"
	"bivium/core/matrix"
	"bivium/core/verdict"
	"bivium/internal/drivers"
	"bivium/internal/store"
	"bivium/internal/vault"
)

// App serves one stored estate. It is safe for concurrent use: readers work on
// an unchanging snapshot, and one writer at a time makes the next.
type App struct {
	Config
	edit    sync.Mutex
	moves   sync.RWMutex // held while the database and what is shown move together
	now     atomic.Pointer[Snapshot]
	shown   int64 // how many snapshots were shown
	reading readings
	backlog backlog
	urgent  atomic.Int64 // edits that are worked out, or tried
	states  lastStates
	learner atomic.Pointer[learner]
}

// Config is what an App works with.
type Config struct {
	Store *store.Store
	Clock func() time.Time
	Vault *vault.Vault
	// First gives the estate to begin with if the store is empty; nil for one that
	// holds nothing yet.
	First func() (*estate.Estate, error)
	// Dial returns the driver of an account.
	Dial func(provider string, a drivers.Access) (drivers.Driver, error)
	Log  *slog.Logger
}

// Snapshot is an estate at one revision, with everything that follows from it.
// It never changes; a request loads it once and keeps it.
type Snapshot struct {
	Estate   *estate.Estate
	Revision int64
	Shown    int64 // its number among those that were shown: one revision may be shown twice, with other things beside the estate
	Faults   []estate.Fault
	Judge    *verdict.Judge
	Analysis *analysis.Analysis
	Survey   *matrix.Matrix      // of the analysis
	Known    []inventory.Known   // what accounts have, as it was last read
	Mapping  []inventory.Mapping // of their tags to labels
	Aside    []store.Aside       // things that could not be read when the database was opened
	index    *nameIndex
	tree     *tree
	members  *members
	later    *later
	plans    *plans
}

// NewSnapshot returns an estate with everything that follows from it.
func NewSnapshot(e *estate.Estate, revision int64) *Snapshot {
	judge := verdict.New(e)
	a := analysis.New(judge)
	s := &Snapshot{Estate: e, Revision: revision, Faults: Faults(judge), Judge: judge, Analysis: a, Survey: a.Matrix, later: &later{}, tree: &tree{}, members: &members{}, plans: &plans{}}
	s.index = newNameIndex(s)
	s.Analysis.Expectations.All() // an edit then looks only at those that it touches
	return s
}

// lend gives a snapshot what it can take over of another, for what it comes of is the same,
// and else what is worked out anew.
func (s *Snapshot) lend(after *Snapshot) {
	same := func(lists ...string) bool { return document.SameLists(s.Estate, after.Estate, lists...) }
	after.index, after.tree, after.members = s.index, s.tree, s.members
	if !same("services", "groups", "segments", "networks", "workloads", "publications") {
		after.index = newNameIndex(after)
	}
	if !same("accounts", "networks", "workloads") || !sameKnown(s.Known, after.Known) {
		after.tree = &tree{}
	}
	if !same("groups", "networks", "workloads") {
		after.members = &members{}
	}
}

func sameKnown(a, b []inventory.Known) bool {
	return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0])
}

// faultsAfter returns the faults of a snapshot that comes after this one: where policies
// alone are others, those that rules do not bear upon stay as they are.
func (s *Snapshot) faultsAfter(after *Snapshot) []estate.Fault {
	if !document.DifferInAlone(s.Estate, after.Estate, "policies") {
		return append(asideFaults(s.Aside), Faults(after.Judge)...)
	}
	had := faultKeys(estate.CheckRules(s.Estate))
	faults := slices.DeleteFunc(slices.Clone(s.Faults), func(f estate.Fault) bool { return had[f.Path+f.Message] })
	return append(faults, estate.CheckRules(after.Estate)...)
}

func faultKeys(faults []estate.Fault) map[string]bool {
	keys := map[string]bool{}
	for _, f := range faults {
		keys[f.Path+f.Message] = true
	}
	return keys
}

// Faults returns every fault of the estate (M9).
func Faults(j *verdict.Judge) []estate.Fault {
	return append(estate.Check(j.Estate), findings.ShareFaults(j)...)
}

// Open returns the app on a store. What the store holds is kept.
func Open(ctx context.Context, c Config) (*App, error) {
	if c.First == nil {
		c.First = func() (*estate.Estate, error) { return &estate.Estate{Version: estate.Version, Name: "estate"}, nil }
	}
	e, revision, err := load(ctx, &c)
	if err != nil {
		return nil, fmt.Errorf("load the estate: %w", err)
	}
	if err := c.Store.Interrupted(ctx); err != nil {
		return nil, fmt.Errorf("look for readings that were cut off: %w", err)
	}
	first := NewSnapshot(e, revision)
	if first.Known, first.Mapping, err = c.Store.Inventory(ctx); err != nil {
		return nil, err
	}
	if first.Aside, err = c.Store.Asides(ctx); err != nil {
		return nil, err
	}
	first.Faults = append(asideFaults(first.Aside), first.Faults...)
	a := &App{Config: c}
	first.Survey.Complete() // before the first request asks for it
	a.show(first)
	a.backlog.changed = make(chan struct{})
	a.want(first)
	return a, nil
}

// load returns the stored estate, or the first one. What of it cannot be read is set aside.
func load(ctx context.Context, c *Config) (*estate.Estate, int64, error) {
	e, revision, aside, err := c.Store.Get(ctx)
	if errors.Is(err, store.ErrEmpty) {
		if e, err = c.First(); err != nil {
			return nil, 0, fmt.Errorf("read the first estate: %w", err)
		}
		if err = c.Store.Put(ctx, e); err != nil {
			return nil, 0, fmt.Errorf("store the first estate: %w", err)
		}
		e, revision, aside, err = c.Store.Get(ctx)
	}
	if err != nil || len(aside) == 0 {
		return e, revision, err
	}
	for i := range aside {
		c.Log.Error("a stored thing cannot be read, and is set aside", "list", aside[i].List, "key", aside[i].Key, "error", aside[i].Errors)
	}
	if err := c.Store.SetAside(ctx, aside, e, c.Clock()); err != nil {
		return nil, 0, fmt.Errorf("set aside what cannot be read: %w", err)
	}
	return e, revision + 1, nil
}

// show makes a snapshot the current one; nobody else may, meanwhile.
func (a *App) show(s *Snapshot) {
	if s == a.now.Load() {
		return
	}
	a.shown++
	s.Shown = a.shown
	a.now.Store(s)
}

// Now returns the current snapshot.
func (a *App) Now() *Snapshot { return a.now.Load() }
