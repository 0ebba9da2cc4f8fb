// Package app is what a user can do with an estate, as functions: ask, look at
// the board, try an edit, and save it.
package app

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"bivium/core/estate"
	"bivium/internal/app/view"
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
	now     atomic.Pointer[view.Snapshot]
	shown   atomic.Int64 // how many snapshots were shown
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
	// Allow, if given, is asked of each edit that is about to be stored; an error refuses it.
	Allow Allowance
	// Hold, if given, is asked of each other step.
	Hold Holding
	// Changed, if given, is called once a step of whatever kind is stored and shown. It must not
	// wait, and not ask for a step itself.
	Changed func()
}

// Holding keeps back what of a step that no person makes, of a sync or a router, somebody must
// approve. It returns the estate without that, and what is to be done once the step is stored;
// nil where nothing is kept back.
type Holding func(before, after *view.Snapshot, p *view.Plan, what string) (*estate.Estate, func())

// Allowance says whether an edit may lead from one snapshot to another.
type Allowance func(before, after *view.Snapshot, p *view.Plan) error

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
	first := view.NewSnapshot(estate.AsOf(e, today(c.Clock)), revision)
	if first.Known, err = c.Store.Inventory(ctx); err != nil {
		return nil, err
	}
	if first.Aside, err = c.Store.Asides(ctx); err != nil {
		return nil, err
	}
	first.Faults = append(view.AsideFaults(first.Aside), first.Faults...)
	a := &App{Config: c}
	first.Matrix.Complete() // before the first request asks for it
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
func (a *App) show(s *view.Snapshot) {
	if s == a.now.Load() {
		return
	}
	a.Number(s)
	a.now.Store(s)
}

// Number gives a snapshot, of the estate or of what might become of it, its number among
// those that are shown.
func (a *App) Number(s *view.Snapshot) { s.Shown = a.shown.Add(1) }

// Now returns the current snapshot.
func (a *App) Now() *view.Snapshot { return a.now.Load() }
