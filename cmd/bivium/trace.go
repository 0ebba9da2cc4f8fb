package main

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"bivium/core/trace"
	"bivium/internal/app/view"
	"bivium/internal/wording"
)

func traceCommand() *cobra.Command {
	var from, to, service, publication string
	var asJSON bool
	c := &cobra.Command{
		Use:   "trace FILE --from SEG:ADDR --to ADDR --service tcp/443",
		Short: "Print one flow, with every step of its decision",
		Long: "Print one flow, with every step of its decision. A workload's name may stand for an address,\n" +
			"internet:ADDR stands for an external source, and a published address for its publication.",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			e, _, err := readEstate(c, args[0])
			if err != nil {
				return err
			}
			road, err := view.NewSnapshot(e, 0).Road(from, to, service, 0, publication)
			if err != nil {
				return byOption(err)
			}
			if asJSON {
				return printJSON(c, road)
			}
			printRoad(c.OutOrStdout(), road)
			return nil
		},
	}
	c.Flags().StringVar(&from, "from", "", "the source: SEG:ADDR, internet:ADDR, or a workload")
	c.Flags().StringVar(&to, "to", "", "the destination: an address, or a workload")
	c.Flags().StringVar(&service, "service", "", "the service: a term such as tcp/443 or \"udp/53 from 1024\", or a name")
	c.Flags().StringVar(&publication, "publication", "", "the publication that a flow from the internet uses (default: the first that allows it)")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	for _, name := range []string{"from", "to", "service"} {
		if err := c.MarkFlagRequired(name); err != nil {
			panic(err)
		}
	}
	return c
}

// byOption returns an error about a field of a question as one about the option that it is
// given by.
func byOption(err error) error {
	var p *view.Problem
	if !errors.As(err, &p) {
		return err
	}
	option, known := map[string]string{"from": "--from", "to": "--to", "on": "--service"}[p.At]
	if !known {
		return err
	}
	return &view.Problem{At: option, Message: p.Message, Fix: p.Fix}
}

// printRoad prints the road from top to bottom, what was not taken with a dash.
func printRoad(w io.Writer, r *view.Road) {
	t := &r.Trace
	fmt.Fprintln(w, wording.Plain(r.Sentence))
	printEnd(w, "from", &t.Source)
	printEnd(w, "to", &t.Destination)
	fmt.Fprintf(w, "lookup    %s%s%s\n", t.Lookup, listed(" by ", t.SharedBy), listed(" as ", nonEmpty(t.Publication)))
	printPath(w, "path", &t.Path)
	for _, v := range t.Rules {
		printRule(w, &v)
	}
	if t.Decides != "" {
		state := "not reached"
		if t.Default.Holds {
			state = "holds"
		}
		fmt.Fprintf(w, "default   %s (%s): %s\n", t.Default.Action, t.Default.Why, state)
	}
	for _, v := range t.Guardrails {
		printRule(w, &v)
	}
	for _, p := range t.Pools {
		fmt.Fprintf(w, "pool      %s: %s%s%s\n", p.Pool, p.State, listed(" at ", nonEmpty(p.Hub)), listed(", by one of ", p.Firewalls))
		if p.Rulebook != "" {
			fmt.Fprintf(w, "          rulebook %s rule %d: %s\n", p.Rulebook, p.Rule, p.Action)
		}
	}
	if t.Back != nil {
		printPath(w, "return", t.Back)
	}
	fmt.Fprintf(w, "outcome   %s (%s)\n", t.Verdict.Outcome, t.Verdict.Reason)
}

func nonEmpty(s string) []string {
	if s == "" {
		return nil
	}
	return []string{s}
}

func listed(before string, names []string) string {
	if len(names) == 0 {
		return ""
	}
	return before + strings.Join(names, ", ")
}

func printEnd(w io.Writer, what string, e *trace.EndView) {
	fmt.Fprintf(w, "%-9s %s", what, e.Address)
	if e.Inside != "" {
		fmt.Fprintf(w, ", inside %s", e.Inside)
	}
	if e.SeenAs != "" {
		fmt.Fprintf(w, ", translated to %s", e.SeenAs)
	}
	for _, s := range []string{e.Workload, e.Segment, e.Network} {
		if s != "" {
			fmt.Fprintf(w, " · %s", s)
		}
	}
	fmt.Fprintln(w)
	for _, g := range e.Groups {
		fmt.Fprintf(w, "          in %s (%s)\n", g.Group, g.Ground)
	}
}

func printPath(w io.Writer, what string, p *trace.PathView) {
	fmt.Fprintf(w, "%-9s %s", what, p.Kind)
	if p.Absence != "" {
		fmt.Fprintf(w, " (%s)", wording.NoPath(p.Absence))
	}
	if p.Entry != nil {
		kind := "implicit"
		if p.Entry.Explicit {
			kind = "explicit"
		}
		fmt.Fprintf(w, ", by %s route %s via %s", kind, p.Entry.Prefix, p.Entry.Via)
	}
	for i, h := range p.Hops {
		if i == 0 {
			fmt.Fprintf(w, ", hubs %s", h.Hub)
			continue
		}
		fmt.Fprintf(w, " –%d– %s", h.Cost, h.Hub)
	}
	if p.Exit != "" {
		fmt.Fprintf(w, ", exit %s", p.Exit)
	}
	if p.Kind == "hub" {
		fmt.Fprintf(w, ", cost %d", p.Cost)
	}
	fmt.Fprintln(w)
	for _, l := range p.Lost {
		fmt.Fprintf(w, "          not %s %s: %s\n", l.What, l.Name, l.Why)
	}
}

func printRule(w io.Writer, v *trace.RuleView) {
	fmt.Fprintf(w, "%-9s %s (%s → %s)", v.Kind, v.Name, v.From, v.To)
	if v.Standing == "silent" {
		fmt.Fprintln(w, ": no rule contains the flow")
		return
	}
	fmt.Fprintf(w, " rule %d: %s %s", v.Rule, v.Action, strings.Join(v.Services, ", "))
	if v.Pool != "" {
		fmt.Fprintf(w, " by %s", v.Pool)
	}
	fmt.Fprintf(w, " — %s%s\n", v.Standing, listed(" by ", nonEmpty(v.Over)))
}
