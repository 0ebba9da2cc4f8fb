package main

import (
	"fmt"
	"io"
	"slices"

	"github.com/spf13/cobra"

	"bivium/core/estate"
	"bivium/core/expectation"
	"bivium/core/failure"
	"bivium/core/matrix"
	"bivium/core/verdict"
	"bivium/internal/app/view"
)

// impactWords is what changes if one thing fails, as JSON.
type impactWords struct {
	Fails  estate.Ref    `json:"fails"`
	Turns  []turnWords   `json:"turns"`
	Breaks []brokenWords `json:"breaks"`
}

// turnWords is flows whose outcome turns.
type turnWords struct {
	From     string          `json:"from"`
	To       string          `json:"to"`
	Before   verdict.Outcome `json:"before"`
	After    verdict.Outcome `json:"after"`
	Services []string        `json:"services"`
	Pairs    string          `json:"pairs"` // of addresses
	Witness  *view.FlowWords `json:"witness"`
}

// brokenWords is an expectation that a failure breaks.
type brokenWords struct {
	Expectation string          `json:"expectation"`
	Witness     *view.FlowWords `json:"witness"`
}

func whatIfCommand() *cobra.Command {
	var asJSON, exitCode bool
	c := &cobra.Command{
		Use:   "what-if FILE",
		Short: "Print which flows change outcome, and which expectations break, if any single hub, link, attachment or firewall fails",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			p := begin(c)
			defer p.end()
			s, err := matrixOf(c, p, args[0])
			if err != nil {
				return err
			}
			p.at("computing failures")
			impacts := failure.WhatIf(s, expectation.NewBook(s).All(), failure.Outages(s))
			p.at("printing")
			if asJSON {
				err = printJSON(c, impactsOf(s.Judge, impacts))
			} else {
				printImpacts(c.OutOrStdout(), s.Judge, impacts)
			}
			breaks := false
			for i := range impacts {
				breaks = breaks || len(impacts[i].Broken) > 0
			}
			if err == nil && exitCode && breaks {
				err = errFails
			}
			return err
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	c.Flags().BoolVar(&exitCode, "exit-code", false, "exit with status 1 if any failure breaks an expectation")
	return c
}

func impactsOf(j *verdict.Judge, impacts []failure.Impact) []impactWords {
	out := []impactWords{}
	for i := range impacts {
		x := &impacts[i]
		w := impactWords{Fails: x.Outage.Ref, Turns: []turnWords{}, Breaks: []brokenWords{}}
		for k := range x.Turns {
			t := &x.Turns[k]
			w.Turns = append(w.Turns, turnWords{nodeWords(t.From), nodeWords(t.To), t.Before, t.After, words(t.Services), t.Pairs.String(), flowOf(j, &t.Witness)})
		}
		for k := range x.Broken {
			w.Breaks = append(w.Breaks, brokenWords{x.Broken[k].Expectation.Name, flowOf(j, &x.Broken[k].Witness)})
		}
		out = append(out, w)
	}
	return out
}

func nodeWords(n matrix.Node) string {
	if n.Kind == matrix.NodeInternet {
		return verdict.Internet
	}
	return n.Segment
}

func printImpacts(w io.Writer, j *verdict.Judge, impacts []failure.Impact) {
	quiet := 0
	for i := range impacts {
		x := &impacts[i]
		turns := slices.DeleteFunc(slices.Clone(x.Turns), func(t failure.Turn) bool { return !delivered(t.Before) && !delivered(t.After) })
		if len(turns) == 0 && len(x.Broken) == 0 {
			quiet++
			continue
		}
		fmt.Fprintf(w, "If %s fails\n", x.Outage.Ref)
		for k := range turns {
			t := &turns[k]
			fmt.Fprintf(w, "  %s → %s: %s changes to %s, %s, for example %s\n", nodeWords(t.From), nodeWords(t.To), t.Before, t.After, shortly(t.Services), flowOf(j, &t.Witness))
		}
		for k := range x.Broken {
			fmt.Fprintf(w, "  breaks expectation %s, for example %s\n", x.Broken[k].Expectation.Name, flowOf(j, &x.Broken[k].Witness))
		}
	}
	fmt.Fprintf(w, "%d single failures computed; %d of them change no flow that passes. --json also lists flows that do not pass.\n", len(impacts), quiet)
}

func delivered(o verdict.Outcome) bool { return o == verdict.Allowed || o == verdict.Inspected }
