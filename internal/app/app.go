// Package app is what a user can do with an estate, as functions: ask, look at
// the board, try an edit, and save it.
package app

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"bivium/core/estate"
	"bivium/core/survey"
	"bivium/core/verdict"
	"bivium/internal/store"
)

// App serves one stored estate. It is safe for concurrent use: readers work on
// an unchanging snapshot, and one writer at a time makes the next.
type App struct {
	store *store.Store
	clock func() time.Time
	edit  sync.Mutex
	now   atomic.Pointer[Snapshot]
}

// Snapshot is an estate at one revision, with everything that follows from it.
// It never changes; a request loads it once and keeps it.
type Snapshot struct {
	Estate   *estate.Estate
	Revision int64
	Faults   []estate.Fault
	Judge    *verdict.Judge
	Survey   *survey.Survey
	index    *nameIndex
}

// NewSnapshot returns an estate with everything that follows from it.
func NewSnapshot(e *estate.Estate, revision int64) *Snapshot {
	judge := verdict.New(e)
	s := &Snapshot{Estate: e, Revision: revision, Faults: Faults(judge), Judge: judge, Survey: survey.New(judge)}
	s.index = newNameIndex(s)
	return s
}

// Faults returns every fault of the estate (M9).
func Faults(j *verdict.Judge) []estate.Fault {
	return append(estate.Check(j.Estate()), survey.ShareFaults(j)...)
}

// Open returns the app on a store. first gives the estate to begin with if the
// store is empty; what the store holds is kept.
func Open(ctx context.Context, s *store.Store, clock func() time.Time, first func() (*estate.Estate, error)) (*App, error) {
	e, revision, err := s.Get(ctx)
	if errors.Is(err, store.ErrEmpty) {
		if e, err = first(); err != nil {
			return nil, fmt.Errorf("read the first estate: %w", err)
		}
		if err = s.Put(ctx, e); err != nil {
			return nil, fmt.Errorf("store the first estate: %w", err)
		}
		e, revision, err = s.Get(ctx)
	}
	if err != nil {
		return nil, fmt.Errorf("load the estate: %w", err)
	}
	a := &App{store: s, clock: clock}
	a.now.Store(NewSnapshot(e, revision))
	return a, nil
}

// Now returns the current snapshot.
func (a *App) Now() *Snapshot { return a.now.Load() }
