package main

import (
	"fmt"
	"io"
	"os"
	"runtime"
	"sync"
	"time"

	"github.com/mattn/go-isatty"
	"github.com/spf13/cobra"
)

// patience is how long work may take before a terminal is told about it.
const patience = time.Second

// progress tells on a terminal what is being done, once that takes a while.
type progress struct {
	out   io.Writer
	begun time.Time
	stop  chan struct{}
	ended sync.WaitGroup

	mu    sync.Mutex
	stage string
}

// begin returns the progress of a command. It is silent unless standard error is
// a terminal.
func begin(c *cobra.Command) *progress {
	p := &progress{out: c.ErrOrStderr(), begun: time.Now(), stop: make(chan struct{})}
	if file, ok := p.out.(*os.File); ok && isatty.IsTerminal(file.Fd()) {
		p.ended.Go(p.tell)
	}
	return p
}

// at says what is being done now.
func (p *progress) at(stage string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.stage = stage
}

// end takes the line off the terminal.
func (p *progress) end() {
	close(p.stop)
	p.ended.Wait()
}

func (p *progress) tell() {
	wait := time.NewTicker(patience)
	defer wait.Stop()
	told := false
	for {
		select {
		case <-p.stop:
			if told {
				fmt.Fprint(p.out, "\r\x1b[K")
			}
			return
		case <-wait.C:
			told = true
			p.mu.Lock()
			fmt.Fprintf(p.out, "\r\x1b[K%s… %d s", p.stage, int(time.Since(p.begun).Seconds()))
			p.mu.Unlock()
		}
	}
}

// addJobs adds the option that bounds how many processors are used.
func addJobs(c *cobra.Command) {
	var jobs int
	c.PersistentFlags().IntVar(&jobs, "jobs", 0, "use at most `N` processors (0: all)")
	c.PersistentPreRunE = func(*cobra.Command, []string) error {
		if jobs < 0 {
			return fmt.Errorf("--jobs %d: use 0 or a positive number", jobs)
		}
		if jobs > 0 {
			runtime.GOMAXPROCS(jobs)
		}
		return nil
	}
}
