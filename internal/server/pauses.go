package server

import (
	"runtime"
	"runtime/metrics"
	"sync"
	"time"

	"github.com/labstack/echo/v4"
)

// pauses lets memory be collected when nobody waits for an answer: one that comes while
// it is collected takes half as long again. Where there are no pauses, the runtime
// collects when it must, as ever.
type pauses struct {
	quiet   time.Duration // for how long nobody must have asked
	due     func() bool
	collect func()

	mu    sync.Mutex
	under int // requests under way
	timer *time.Timer
}

// quiet is longer than a browser takes to ask for what belongs together, and shorter
// than people take to look at it.
const quiet = 150 * time.Millisecond

func newPauses() *pauses { return &pauses{quiet: quiet, due: halfFull, collect: runtime.GC} }

// watch is middleware that tells when there is a pause.
func (p *pauses) watch(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c echo.Context) error {
		p.begin()
		defer p.end()
		return next(c)
	}
}

func (p *pauses) begin() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.under++
	if p.timer != nil {
		p.timer.Stop()
	}
}

func (p *pauses) end() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.under--; p.under == 0 {
		p.timer = time.AfterFunc(p.quiet, p.pause)
	}
}

// pause collects, if there is still nobody and it is worth while.
func (p *pauses) pause() {
	p.mu.Lock()
	idle := p.under == 0
	p.mu.Unlock()
	if idle && p.due() {
		p.collect()
	}
}

// halfFull reports whether half of the memory has been used that is there until the
// runtime collects by itself.
func halfFull() bool {
	read := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}, {Name: "/gc/heap/live:bytes"}, {Name: "/gc/heap/goal:bytes"}}
	metrics.Read(read)
	return read[0].Value.Uint64() > (read[1].Value.Uint64()+read[2].Value.Uint64())/2
}
