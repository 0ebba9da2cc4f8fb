package app

import (
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"bivium/core/parallel"
	"bivium/internal/drivers"
	"bivium/internal/store"
)

// States is what all connected accounts say about what runs there.
type States struct {
	At     time.Time      `json:"at"` // when they were asked
	States []AccountState `json:"states"`
	Silent []Silence      `json:"silent"`
}

// AccountState is the state of one thing, as its account has it.
type AccountState struct {
	Account string `json:"account"`
	drivers.Health
}

// Silence is an account that did not answer.
type Silence struct {
	Account string `json:"account"`
	Why     string `json:"why"`
}

// healthAge is how long what accounts said is not asked again.
const healthAge = 5 * time.Second

// lastStates keeps what accounts said last, and lets one ask at a time.
type lastStates struct {
	mu   sync.Mutex
	last *States
}

// States asks every connected account for the state of what its provider runs,
// unless that was done just now.
func (a *App) States(ctx context.Context) (*States, error) {
	a.states.mu.Lock()
	defer a.states.mu.Unlock()
	if last := a.states.last; last != nil && a.Clock().Sub(last.At) < healthAge {
		return last, nil
	}
	sources, err := a.Store.Sources(ctx)
	if err != nil {
		return nil, err
	}
	now := a.Now()
	sources = slices.DeleteFunc(sources, func(s store.Source) bool { return !hasAccount(now, s.Account) })
	out := &States{At: a.Clock(), States: []AccountState{}, Silent: []Silence{}}
	var mu sync.Mutex
	var wait parallel.Group
	for i := range sources {
		wait.Go(func() {
			states, err := a.Health(ctx, sources[i].Account)
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				out.Silent = append(out.Silent, Silence{sources[i].Account, err.Error()})
			}
			for _, h := range states {
				out.States = append(out.States, AccountState{sources[i].Account, h})
			}
		})
	}
	wait.Wait()
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	slices.SortFunc(out.States, func(x, y AccountState) int { return strings.Compare(x.Kind+x.Name+x.Account, y.Kind+y.Name+y.Account) })
	slices.SortFunc(out.Silent, func(x, y Silence) int { return strings.Compare(x.Account, y.Account) })
	a.states.last = out
	return out, nil
}
