package main

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/spf13/cobra"

	"bivium/core/matrix"
	"bivium/core/native"
	"bivium/core/native/plan"
	"bivium/core/verdict"
	"bivium/internal/app/applying"
	"bivium/internal/app/view"
	"bivium/internal/store"
	"bivium/internal/wording"
)

// errUnsafe is returned where flows would pass while a plan is carried out that pass neither before
// nor after.
var errUnsafe = errors.New("flows would be opened temporarily")

func planCommand() *cobra.Command {
	var r remote
	var draft int64
	var asJSON, putRight bool
	c := &cobra.Command{
		Use:   "plan [OLD NEW]",
		Short: "Print what is written to hubs, clouds and premises, and in an order that opens no flow temporarily",
		Long: "With two files, print the plan between what the two estates ask of targets. Without, ask a server:\n" +
			"it reads what targets hold now, and plans what applying a draft, or the applied estate, would write.\n" +
			"The exit status is 1 if flows would be opened temporarily that are allowed neither before nor after.",
		Args: cobra.MatchAll(cobra.MaximumNArgs(2), func(_ *cobra.Command, args []string) error {
			if len(args) == 1 {
				return errors.New("give two files, or none to ask a server")
			}
			return nil
		}),
		RunE: func(c *cobra.Command, args []string) error {
			v, err := planOf(c, args)
			if len(args) == 0 {
				path := fmt.Sprintf("/api/plans/preview?put-right=%t", putRight)
				if draft > 0 {
					path += fmt.Sprintf("&draft=%d", draft)
				}
				v = &applying.View{}
				err = r.send(http.MethodPost, path, nil, v)
			}
			if err != nil {
				return err
			}
			if asJSON {
				err = printJSON(c, v)
			} else {
				printPlan(c.OutOrStdout(), v)
			}
			if err == nil && len(v.Open) > 0 {
				err = errUnsafe
			}
			return err
		},
	}
	r.addServer(c)
	c.Flags().Int64Var(&draft, "draft", 0, "plan for draft `N` of the server")
	c.Flags().BoolVar(&putRight, "put-right", false, "plan also for what targets hold otherwise than Bivium left it")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

// planOf plans between two estates, as if targets held what the first asks of them.
func planOf(c *cobra.Command, files []string) (*applying.View, error) {
	if len(files) == 0 {
		return nil, nil //nolint:nilnil // a server is asked
	}
	var states [2]plan.State
	var matrices [2]*matrix.Matrix
	for i, file := range files {
		e, _, err := readEstate(c, file)
		if err != nil {
			return nil, err
		}
		matrices[i] = matrix.New(verdict.New(e))
		t := native.Translate(matrices[i])
		for k := range t.Refused {
			fmt.Fprintln(c.ErrOrStderr(), "refused: "+wording.Refusal(&t.Refused[k])) //nolint:errcheck // there is nowhere else to say so
		}
		states[i] = plan.State{Config: t.Config, Estate: e}
	}
	made := plan.Make(states[0], states[1], func(plan.Key) bool { return true })
	return applying.ViewOf(made, made.Check(states[0], states[1], matrices[0], matrices[1]), view.NewSnapshot(states[1].Estate, 0)), nil
}

func printPlan(out io.Writer, v *applying.View) {
	step := ""
	for i := range v.Writes {
		w := &v.Writes[i]
		if w.Step != step {
			step = w.Step
			fmt.Fprintln(out, step)
		}
		after := ""
		if len(w.Waits) > 0 {
			after = fmt.Sprintf(", after %d", w.Waits[0]+1)
			if len(w.Waits) > 1 {
				after = fmt.Sprintf(", after %d others", len(w.Waits))
			}
		}
		limit := ""
		if w.Limit > 0 {
			limit = fmt.Sprintf(" of %d", w.Limit)
		}
		fmt.Fprintf(out, "%4d %s, %s: +%d -%d, %d kept, holds %d%s%s\n", w.Number+1, w.Target, w.Title, len(w.Added), len(w.Removed), w.Kept, w.Holds, limit, after)
		for _, l := range w.Removed {
			fmt.Fprintf(out, "     - %s\n", l)
		}
		for _, l := range w.Added {
			fmt.Fprintf(out, "     + %s\n", l)
		}
	}
	for _, f := range v.Open {
		fmt.Fprintf(out, "opened temporarily: %s to %s on %s, after %d writes\n", f.Witness.Source, f.Witness.Destination, f.Witness.On, f.After)
	}
	for _, f := range v.Cut {
		fmt.Fprintf(out, "may be interrupted: %s to %s on %s\n", f.Witness.Source, f.Witness.Destination, f.Witness.On)
	}
	for _, f := range v.Ends {
		fmt.Fprintf(out, "sessions end: %s to %s on %s\n", f.Witness.Source, f.Witness.Destination, f.Witness.On)
	}
	switch {
	case len(v.Writes) == 0:
		fmt.Fprintln(out, "nothing is to be written")
	case v.Skipped:
		fmt.Fprintln(out, "there are too many classes of flows to check every state in between")
	case len(v.Open) == 0:
		fmt.Fprintf(out, "%d writes; no flow is opened temporarily\n", len(v.Writes))
	}
}

// followPace is how often a server is asked how far it is.
const followPace = 500 * time.Millisecond

// follow prints how targets come to hold what the estate asks of them, until they do.
func (r *remote) follow(out io.Writer) error {
	last := ""
	for {
		var s applying.Status
		if err := r.send(http.MethodGet, "/api/applying", nil, &s); err != nil {
			return err
		}
		line := fmt.Sprintf("revision %d: %s", s.Revision, s.State)
		if s.Writes > 0 {
			line += fmt.Sprintf(", %d of %d writes", s.Done, s.Writes)
		}
		for i := range s.Behind {
			if b := &s.Behind[i]; b.Why != "" {
				line += fmt.Sprintf("; %s: %s", b.Target, b.Why)
			}
		}
		if line != last {
			fmt.Fprintln(out, line)
			last = line
		}
		switch s.State {
		case applying.StateInForce, applying.StateUnconnected:
			return nil
		case store.PlanAsks, store.PlanStopped, store.PlanPaused, applying.StateUnknown:
			return fmt.Errorf("it is not in force: %s", s.State)
		case applying.StatePartly:
			if s.Plan == 0 && len(s.Behind) > 0 { // nothing is left to be written
				return fmt.Errorf("it is partly in force: at %s, %s", s.Behind[0].Target, s.Behind[0].Why)
			}
			if len(s.Plans) > 0 && s.Plans[0].State == store.PlanStuck {
				return fmt.Errorf("it is partly in force: %s", s.Plans[0].Why)
			}
		}
		select {
		case <-r.c.Context().Done():
			return r.c.Context().Err()
		case <-time.After(followPace):
		}
	}
}
