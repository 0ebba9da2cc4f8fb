// Command bivium defines, checks and explains the rules between segments of
// cloud and site networks. Run it with --help.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"

	"github.com/spf13/cobra"

	"bivium/core/limits"
)

// Exit codes (page 2 of the design): what was asked holds, it does not hold,
// usage or unreadable input.
const (
	exitHolds = iota
	exitFails
	exitUsage
)

// errFails is returned by a command whose question has the answer no; it has
// been printed already.
var errFails = errors.New("check failed")

func main() {
	if os.Getenv("GOMEMLIMIT") == "" {
		// The largest estates fit well below this; beyond, collecting more often is
		// better than growing.
		debug.SetMemoryLimit(7 << 29)
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := run(ctx)
	stop()
	os.Exit(code)
}

func run(ctx context.Context) int {
	err := execute(ctx)
	switch {
	case err == nil:
		return exitHolds
	case errors.Is(err, errFails):
		return exitFails
	}
	fmt.Fprintln(os.Stderr, "bivium:", err)
	return exitUsage
}

// execute runs the command. Work that would need more than a limit allows is an error.
func execute(ctx context.Context) (err error) {
	defer func() {
		value := recover()
		if most := limits.Of(value); most != nil {
			err = fmt.Errorf("%w; %s", most, most.Fix)
		} else if value != nil {
			panic(value)
		}
	}()
	return root().ExecuteContext(ctx)
}

func root() *cobra.Command {
	c := &cobra.Command{
		Use:   "bivium",
		Short: "Show what happens to every flow between your segments, clouds and sites, and which rule decides it",
		Long: "Bivium reads an estate (networks, segments, groups, policies, shares, firewalls) and computes\n" +
			"exactly what happens to every flow: allowed, inspected, blocked, denied or unrouted, and why.",
		SilenceUsage: true, SilenceErrors: true,
	}
	addJobs(c)
	c.AddCommand(demoCommand(), serveCommand(), standinsCommand(), fromServer(checkCommand()), fromServer(traceCommand()), fromServer(verdictsCommand()), fromServer(matrixCommand()), fromServer(diffCommand()), fromServer(tryCommand()), fromServer(editCommand()),
		fromServer(suggestCommand()), fromServer(whatIfCommand()), fromServer(nativeCommand()), planCommand(), generateCommand(), fmtCommand(), schemaCommand(),
		tokenCommand(), askCommand(), draftCommand(), applyCommand(), blameCommand(), backupCommand(), restoreCommand(), keyCommand(), auditCommand())
	return c
}
