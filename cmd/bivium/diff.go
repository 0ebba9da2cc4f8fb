package main

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"bivium/core/space"
	"bivium/core/survey"
	"bivium/core/verdict"
)

// changeWords is one change of a difference, as --json writes it.
type changeWords struct {
	Kind     string           `json:"kind"` // opened, closed, hands or other
	From     []string         `json:"from"`
	To       []string         `json:"to"`
	Services []string         `json:"services"`
	Before   *verdict.Verdict `json:"before"` // null where there was no such flow
	After    *verdict.Verdict `json:"after"`
	Witness  *flowWords       `json:"witness"`
}

// The kinds of changes, in the order in which they are printed.
var changeKinds = []struct{ kind, title string }{
	{"opened", "passes now and did not"},
	{"closed", "no longer passes"},
	{"hands", "passes as before, in other hands"},
	{"other", "passes neither before nor now, for another reason"},
}

func diffCommand() *cobra.Command {
	var asJSON, exitCode bool
	c := &cobra.Command{
		Use:   "diff OLD NEW",
		Short: "Print every flow that fares differently, as exact sets, each with a witness",
		Args:  cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			p := begin(c)
			defer p.end()
			p.at("reading")
			old, _, err := readEstate(c, args[0])
			if err != nil {
				return err
			}
			next, _, err := readEstate(c, args[1])
			if err != nil {
				return err
			}
			p.at("surveying both")
			before, after := survey.New(verdict.New(old)), survey.New(verdict.New(next))
			p.at("comparing every flow")
			d := survey.Compare(before, after)
			if asJSON {
				err = printJSON(c, changesOf(&d))
			} else {
				printDiff(c.OutOrStdout(), &d)
			}
			if err == nil && exitCode && len(d.Changes) > 0 {
				err = errFails
			}
			return err
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print for programs")
	c.Flags().BoolVar(&exitCode, "exit-code", false, "end with 1 if any flow fares differently")
	return c
}

func passes(v *verdict.Verdict) bool {
	return v != nil && (v.Outcome == verdict.Allowed || v.Outcome == verdict.Inspected)
}

func kindOf(c *survey.Change) string {
	switch before, after := passes(c.Before), passes(c.After); {
	case after && !before:
		return "opened"
	case before && !after:
		return "closed"
	case before:
		return "hands"
	}
	return "other"
}

func changesOf(d *survey.Difference) []changeWords {
	out := []changeWords{}
	for i := range d.Changes {
		c := &d.Changes[i]
		flow := c.Witness()
		for _, b := range d.Blocks(c) {
			out = append(out, changeWords{kindOf(c), b.From.Words(), b.To.Words(), words(c.Services), c.Before, c.After, flowOf(&flow)})
		}
	}
	return out
}

func printDiff(w io.Writer, d *survey.Difference) {
	if len(d.Changes) == 0 {
		fmt.Fprintln(w, "No flow fares differently.")
		return
	}
	for _, k := range changeKinds {
		titled := false
		for i := range d.Changes {
			c := &d.Changes[i]
			if kindOf(c) != k.kind {
				continue
			}
			if !titled {
				titled = true
				fmt.Fprintln(w, strings.ToUpper(k.title[:1])+k.title[1:])
			}
			fmt.Fprintf(w, "  %s: %s → %s\n", shortly(c.Services), fared(c.Before), fared(c.After))
			for _, b := range d.Blocks(c) {
				fmt.Fprintf(w, "    from %s to %s\n", strings.Join(b.From.Words(), ", "), strings.Join(b.To.Words(), ", "))
			}
			flow := c.Witness()
			fmt.Fprintf(w, "    such as %s\n", flowOf(&flow))
		}
	}
}

// shortly writes a set of services for people.
func shortly(s space.Services) string {
	words, allBut := s.Short()
	if allBut {
		return "all but " + strings.Join(words, ", ")
	}
	return strings.Join(words, ", ")
}

// fared says how flows fared, and by whom.
func fared(v *verdict.Verdict) string {
	if v == nil {
		return "no such flow"
	}
	s := string(v.Outcome)
	if v.Outcome == verdict.Inspected {
		s += " by " + strings.Join(v.Pools, ", ")
	}
	s += " (" + string(v.Reason)
	if len(v.By) > 0 {
		s += " " + strings.Join(v.By, ", ")
	}
	if v.Contested {
		s += ", contested"
	}
	return s + ")"
}
