package survey

import (
	"runtime"
	"sync"
	"sync/atomic"
)

// inParallel runs jobs on as many goroutines as there are processors.
func inParallel(jobs []func()) {
	var next atomic.Int64
	var wait sync.WaitGroup
	work := func() {
		for {
			i := int(next.Add(1)) - 1
			if i >= len(jobs) {
				return
			}
			jobs[i]()
		}
	}
	for range min(runtime.GOMAXPROCS(0), len(jobs)) - 1 {
		wait.Go(work)
	}
	work()
	wait.Wait()
}

// inShares cuts a list of n into shares, and calls f for each of them, side by side.
func inShares(n, shares int, f func(share, first, last int)) {
	jobs := make([]func(), shares)
	for i := range jobs {
		jobs[i] = func() { f(i, i*n/shares, (i+1)*n/shares) }
	}
	inParallel(jobs)
}
