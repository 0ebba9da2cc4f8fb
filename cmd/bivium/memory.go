package main

import (
	"os"
	"runtime/debug"
)

// roomy is how much memory the process may take so that it need not be sparing with it.
const roomy = 2 << 30

// How much may be left behind, in percent of what is held, before memory is collected. The
// server holds much at rest, and leaves a hundred megabytes with each edit that is tried.
const (
	servePercent   = 200
	commandPercent = 400
)

// estatePerText is how many bytes a command holds for each byte of a document, about.
const estatePerText = 10

// collectLess lets memory be collected less often where there is room for that, for quicker
// answers: at most so many percent of what is held, in bytes, may be left behind. Whoever sets
// GOGC decides.
func collectLess(held, percent uint64) {
	if _, set := os.LookupEnv("GOGC"); set || held == 0 {
		return
	}
	if percent = min(percent, roomy*100/held-min(100, roomy*100/held)); percent > 100 {
		debug.SetGCPercent(int(percent)) //nolint:gosec // 400 at most
	}
}
