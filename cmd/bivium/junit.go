package main

import (
	"encoding/xml"
	"fmt"
	"strings"
)

// The elements of JUnit XML that test reports have in common.
type junitSuites struct {
	XMLName xml.Name     `xml:"testsuites"`
	Suites  []junitSuite `xml:"testsuite"`
}

type junitSuite struct {
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int         `xml:"failures,attr"`
	Cases    []junitCase `xml:"testcase"`
}

type junitCase struct {
	Name    string        `xml:"name,attr"`
	Class   string        `xml:"classname,attr"`
	Failure *junitFailure `xml:"failure,omitempty"`
	Out     string        `xml:"system-out,omitempty"`
}

type junitFailure struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

// junitOf returns a report with a suite for the faults and one for the
// expectations. Findings do not fail a check, and are not in it.
func junitOf(r *checked) ([]byte, error) {
	faults := junitSuite{Name: r.Estate + " faults", Tests: max(1, len(r.Faults)), Failures: len(r.Faults)}
	for _, f := range r.Faults {
		faults.Cases = append(faults.Cases, junitCase{Name: f.Path, Class: string(f.Code), Failure: &junitFailure{f.Message, fmt.Sprintf("line %d: %s", f.Line, f.Fix)}})
	}
	if len(r.Faults) == 0 {
		faults.Cases = []junitCase{{Name: "no faults", Class: "faults"}}
	}
	expectations := junitSuite{Name: r.Estate + " expectations", Tests: len(r.Expectations)}
	for _, x := range r.Expectations {
		c := junitCase{Name: x.Name, Class: "expectation"}
		if x.ByRouting {
			c.Out = "holds only because no route exists"
		}
		if !x.Holds {
			expectations.Failures++
			var lines []string
			for _, f := range x.Failures {
				lines = append(lines, fmt.Sprintf("%s (%s) on %s, for example %s", f.Verdict.Outcome, f.Verdict.Reason, strings.Join(f.Services, ", "), f.Witness))
			}
			c.Failure = &junitFailure{"some flows do not do what is expected", strings.Join(lines, "\n")}
		}
		expectations.Cases = append(expectations.Cases, c)
	}
	text, err := xml.MarshalIndent(junitSuites{Suites: []junitSuite{faults, expectations}}, "", "  ")
	return append([]byte(xml.Header), append(text, '\n')...), err
}
