package app

import (
	"context"
	"time"

	"bivium/core/estate"
	"bivium/internal/app/view"
)

// today returns the day by the clock, in the time zone of the server.
func today(clock func() time.Time) string { return clock().Format(estate.DayFormat) }

// dayTick is how often the calendar is looked at.
const dayTick = time.Minute

// Calendar lets things run out, and announces those that soon do, as days pass (C3.7). It
// returns when ctx ends.
func (a *App) Calendar(ctx context.Context) {
	tick := time.NewTicker(dayTick)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if err := a.Turn(); err != nil {
				a.Log.Error("a new day could not be worked out", "error", err)
			}
		}
	}
}

// Turn makes the estate shown one of today. That is no revision: nothing is written otherwise.
func (a *App) Turn() error {
	day := today(a.Clock)
	a.edit.Lock()
	defer a.edit.Unlock()
	now := a.Now()
	if now.Estate.Day == day {
		return nil
	}
	return a.guarded("the day "+day, func() error {
		p := &view.Plan{Next: estate.AsOf(now.Estate, day)}
		now.WorkOut(p)
		after := now.After(p, now.Revision, now.Known)
		after.Matrix.Complete()
		a.moves.Lock()
		defer a.moves.Unlock()
		a.show(after)
		return nil
	})
}
