package parallel_test

import (
	"errors"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"

	"bivium/core/parallel"
)

func TestRunDoesEachJobOnce(t *testing.T) {
	for _, n := range []int{0, 1, 2, 100} {
		done := make([]atomic.Int32, n)
		jobs := make([]func(), n)
		for i := range jobs {
			jobs[i] = func() { done[i].Add(1) }
		}
		parallel.Run(jobs)
		for i := range done {
			assert.EqualValues(t, 1, done[i].Load(), "job %d of %d", i, n)
		}
	}
}

func TestSharesCoverTheListInOrder(t *testing.T) {
	bounds := make([][2]int, 3)
	parallel.Shares(10, 3, func(share, first, last int) { bounds[share] = [2]int{first, last} })
	assert.Equal(t, [][2]int{{0, 3}, {3, 6}, {6, 10}}, bounds)
}

func TestAPanicOfAWorkerComesOutWhereTheWorkWasAskedFor(t *testing.T) {
	broken := errors.New("broken")
	caught := func(f func()) (p *parallel.Panic) {
		defer func() { p, _ = recover().(*parallel.Panic) }()
		f()
		return nil
	}
	jobs := make([]func(), 50)
	for i := range jobs {
		jobs[i] = func() {
			if i == 17 {
				panic(broken)
			}
		}
	}
	p := caught(func() { parallel.Run(jobs) })
	if assert.NotNil(t, p) {
		assert.ErrorIs(t, p, broken)
		assert.Contains(t, p.Error(), "parallel_test.go", "the place is told")
	}
	var g parallel.Group
	g.Go(func() { parallel.Run(jobs) })
	p = caught(g.Wait)
	if assert.NotNil(t, p) {
		assert.Equal(t, any(broken), p.Value, "once, however deep")
	}
	assert.Nil(t, caught(func() { parallel.Run(jobs[:17]) }))
}

func TestOnceTriesAgainAfterAPanic(t *testing.T) {
	var once parallel.Once
	calls := 0
	assert.Panics(t, func() {
		once.Do(func() {
			calls++
			panic("not yet")
		})
	})
	assert.False(t, once.Done())
	for range 3 {
		once.Do(func() { calls++ })
	}
	assert.Equal(t, 2, calls)
	assert.True(t, once.Done())
}
