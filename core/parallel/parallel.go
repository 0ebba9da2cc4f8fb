// Package parallel runs work side by side so that a panic in one worker ends that work
// and nothing else: it comes out again where the work was asked for, with the place at
// which it happened.
package parallel

import (
	"fmt"
	"runtime"
	"runtime/debug"
	"sync"
	"sync/atomic"
)

// Panic is a panic of a worker, as it is raised again in the goroutine that waits.
type Panic struct {
	Value any
	Stack []byte // of the worker
}

// Error returns what the worker panicked with, and where.
func (p *Panic) Error() string { return fmt.Sprintf("%v\n\nin a worker:\n%s", p.Value, p.Stack) }

// Unwrap returns the error that the worker panicked with, or nil.
func (p *Panic) Unwrap() error {
	err, _ := p.Value.(error)
	return err
}

// Group is work that is under way. The zero Group is ready; it must not be copied.
type Group struct {
	wait   sync.WaitGroup
	failed atomic.Pointer[Panic]
}

// Go runs f in a goroutine.
func (g *Group) Go(f func()) {
	g.wait.Go(func() {
		defer func() {
			if value := recover(); value != nil {
				g.failed.CompareAndSwap(nil, asPanic(value))
			}
		}()
		f()
	})
}

func asPanic(value any) *Panic {
	if p, ok := value.(*Panic); ok { // of a worker's worker
		return p
	}
	return &Panic{value, debug.Stack()}
}

// Wait waits for all that Go began, and panics with a *Panic if one of it did.
func (g *Group) Wait() {
	g.wait.Wait()
	if p := g.failed.Load(); p != nil {
		panic(p)
	}
}

// Run runs jobs on as many goroutines as there are processors, and waits for them. If
// one panics, those that have not begun are left, and Run panics with a *Panic.
func Run(jobs []func()) {
	if len(jobs) == 1 {
		alone(jobs[0])
		return
	}
	var g Group
	var next atomic.Int64
	work := func() {
		for g.failed.Load() == nil {
			i := int(next.Add(1)) - 1
			if i >= len(jobs) {
				return
			}
			jobs[i]()
		}
	}
	for range min(runtime.GOMAXPROCS(0), len(jobs)) - 1 {
		g.Go(work)
	}
	func() { // others still work when this one panics
		defer func() {
			if value := recover(); value != nil {
				g.failed.CompareAndSwap(nil, asPanic(value))
			}
		}()
		work()
	}()
	g.Wait()
}

// alone runs a job that no other is beside.
func alone(job func()) {
	defer func() {
		if value := recover(); value != nil {
			panic(asPanic(value))
		}
	}()
	job()
}

// Shares cuts a list of n into shares, and calls f for each of them, side by side.
func Shares(n, shares int, f func(share, first, last int)) {
	jobs := make([]func(), shares)
	for i := range jobs {
		jobs[i] = func() { f(i, i*n/shares, (i+1)*n/shares) }
	}
	Run(jobs)
}

// Once does something once. Unlike sync.Once it counts only what came to its end: after a
// panic, the next caller tries again. The zero Once has done nothing; it must not be copied.
type Once struct {
	mu   sync.Mutex
	done atomic.Bool
}

// Do calls f if no call of Do has come to its end yet.
func (o *Once) Do(f func()) {
	if o.done.Load() {
		return
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if !o.done.Load() {
		f()
		o.done.Store(true)
	}
}

// Done reports whether a call of Do has come to its end.
func (o *Once) Done() bool { return o.done.Load() }
