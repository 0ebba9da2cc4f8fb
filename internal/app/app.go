// Package app is what a user can do with an estate, as functions: ask, look at
// the board, try an edit, and save it.
package app

import (
	"context"
	"errors"
	"fmt"
	"slices"
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
	troubles *troubles
}

// troubles keeps what Troubles works out.
type troubles struct {
	once sync.Once
	all  *Troubles
}

// NewSnapshot returns an estate with everything that follows from it.
func NewSnapshot(e *estate.Estate, revision int64) *Snapshot {
	judge := verdict.New(e)
	s := &Snapshot{Estate: e, Revision: revision, Faults: Faults(judge), Judge: judge, Survey: survey.New(judge), troubles: &troubles{}}
	s.index = newNameIndex(s)
	s.Survey.Expectations() // an edit then looks only at those that it touches
	return s
}

// revised returns the snapshot of an estate that differs from that of s in
// policies alone, and what fares differently. It shares with s what the edit
// leaves alone.
func (s *Snapshot) revised(next *estate.Estate, revision int64) (*Snapshot, survey.Difference) {
	sv, d := s.Survey.Revise(next)
	after := &Snapshot{Estate: next, Revision: revision, Faults: s.revisedFaults(next), Judge: sv.Judge(), Survey: sv, index: s.index, troubles: &troubles{}}
	return after, d
}

// revisedFaults returns the faults after such an edit: those that rules do not
// bear upon stay as they are.
func (s *Snapshot) revisedFaults(next *estate.Estate) []estate.Fault {
	had := faultKeys(estate.CheckRules(s.Estate))
	faults := slices.DeleteFunc(slices.Clone(s.Faults), func(f estate.Fault) bool { return had[f.Path+f.Message] })
	return append(faults, estate.CheckRules(next)...)
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
