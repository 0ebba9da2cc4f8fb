package main

import (
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"bivium/core/analysis"
	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/space"
	"bivium/core/verdict"
	"bivium/internal/app/view"
	"bivium/internal/wording"
)

// checked is what `bivium check` found, as it writes it with --json.
type checked struct {
	Estate       string          `json:"estate"`
	Faults       []locatedFault  `json:"faults"`
	Findings     []foundWords    `json:"findings"`
	Expectations []expectedWords `json:"expectations"`
}

// locatedFault is a fault with its line in the document.
type locatedFault struct {
	Line int `json:"line"`
	wording.DescribedFault
}

// foundWords is a finding.
type foundWords struct {
	Code     findings.FindingCode `json:"code"`
	Message  string               `json:"message"`
	Refs     []estate.Ref         `json:"refs"`
	Services []string             `json:"services"`
	Witness  *view.FlowWords      `json:"witness"`
}

// expectedWords is how an expectation fares.
type expectedWords struct {
	Name      string         `json:"name"`
	Holds     bool           `json:"holds"`
	ByRouting bool           `json:"heldOnlyByRouting"`
	NoFlows   bool           `json:"noFlows"`
	Failures  []failureWords `json:"failures"`
}

type failureWords struct {
	Services []string        `json:"services"`
	Verdict  verdict.Verdict `json:"verdict"`
	Witness  *view.FlowWords `json:"witness"`
}

func checkCommand() *cobra.Command {
	var asJSON bool
	var junit string
	c := &cobra.Command{
		Use:   "check FILE",
		Short: "Report the faults and findings of an estate, and whether its expectations hold",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			p := begin(c)
			defer p.end()
			p.at("reading")
			e, text, err := readEstate(c, args[0])
			if err != nil {
				return err
			}
			r, err := check(e, text, p)
			if err != nil {
				return err
			}
			if junit != "" {
				if err := writeJUnit(junit, r); err != nil {
					return err
				}
			}
			if asJSON {
				err = printJSON(c, r)
			} else {
				printChecked(c.OutOrStdout(), args[0], r)
			}
			if err == nil && !r.holds() {
				err = errFails
			}
			return err
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	c.Flags().StringVar(&junit, "junit", "", "also write JUnit XML to `FILE`")
	return c
}

func check(e *estate.Estate, text []byte, p *progress) (*checked, error) {
	p.at("checking for faults")
	judge := verdict.New(e)
	faults, err := locate(text, view.Faults(judge))
	if err != nil {
		return nil, err
	}
	p.at("surveying")
	s := analysis.New(judge)
	p.at("checking for findings")
	r := &checked{Estate: e.Name, Faults: faults, Findings: []foundWords{}, Expectations: []expectedWords{}}
	for _, f := range s.Findings.All(func() {}) {
		r.Findings = append(r.Findings, foundWords{f.Code, wording.Finding(&f), append([]estate.Ref{}, f.Refs...), words(f.Services), flowOf(judge, f.Witness)})
	}
	for _, h := range s.Expectations.All() {
		x := expectedWords{h.Expectation.Name, h.Holds, h.Holds && h.ByRouting, h.Vacuous, []failureWords{}}
		for _, f := range h.Failures() {
			x.Failures = append(x.Failures, failureWords{words(f.Services), f.Verdict, flowOf(judge, &f.Witness)})
		}
		r.Expectations = append(r.Expectations, x)
	}
	return r, nil
}

func words(s space.Services) []string { return append([]string{}, s.Words()...) }

// flowOf writes a flow of a judge's estate, nil for none.
func flowOf(j *verdict.Judge, f *verdict.Flow) *view.FlowWords {
	if f == nil {
		return nil
	}
	w := view.WordsOf(j, *f)
	return &w
}

// holds reports whether there are no faults, and every expectation holds.
func (r *checked) holds() bool {
	for _, x := range r.Expectations {
		if !x.Holds {
			return false
		}
	}
	return len(r.Faults) == 0
}

func locate(text []byte, faults []estate.Fault) ([]locatedFault, error) {
	paths := make([]string, len(faults))
	for i := range faults {
		paths[i] = faults[i].Path
	}
	out := make([]locatedFault, len(faults))
	if len(faults) == 0 {
		return out, nil
	}
	lines, err := document.Locate(text, paths)
	if err != nil {
		return nil, err
	}
	for i := range faults {
		out[i] = locatedFault{lines[i], wording.Fault(&faults[i])}
	}
	return out, nil
}

func printChecked(w io.Writer, file string, r *checked) {
	for _, f := range r.Faults {
		fmt.Fprintf(w, "%s:%d: %s %s\n    %s\n", file, f.Line, f.Code, f.Message, f.Fix)
	}
	for _, f := range r.Findings {
		fmt.Fprintf(w, "finding     %s: %s\n", f.Code, f.Message)
		if f.Witness != nil {
			fmt.Fprintf(w, "            for example %s\n", f.Witness)
		}
	}
	held := 0
	for _, x := range r.Expectations {
		state := "holds"
		switch {
		case !x.Holds:
			state = "fails"
		case x.ByRouting:
			state = "holds, but only because no route exists"
		case x.NoFlows:
			state = "holds, but no flow matches it"
		}
		if x.Holds {
			held++
		}
		fmt.Fprintf(w, "expectation %s: %s\n", x.Name, state)
		for _, f := range x.Failures {
			fmt.Fprintf(w, "            %s (%s) on %s, for example %s\n", f.Verdict.Outcome, f.Verdict.Reason, strings.Join(f.Services, ", "), f.Witness)
		}
	}
	fmt.Fprintf(w, "%s: %s, %s, %d of %d expectations hold\n", r.Estate, count(len(r.Faults), "fault"), count(len(r.Findings), "finding"), held, len(r.Expectations))
}

func count(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

func writeJUnit(file string, r *checked) error {
	text, err := junitOf(r)
	if err != nil {
		return err
	}
	return os.WriteFile(file, text, 0o644) //nolint:gosec // a report is for others to read
}
