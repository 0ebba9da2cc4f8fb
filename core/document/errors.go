package document

import (
	"fmt"
	"strings"
)

// Error is one thing that is wrong with a document.
type Error struct {
	Line    int    `json:"line,omitempty"` // from 1; 0 if unknown
	Path    string `json:"path,omitempty"` // policies[3].rules[0].action
	Message string `json:"message"`
	Fix     string `json:"fix,omitempty"`
	// Character is the one of the value at which it goes wrong, from 1; 0 for the value as a whole.
	Character int `json:"character,omitempty"`
}

// Error returns "line 7: policies[3].from: what is wrong; how to fix it".
func (e Error) Error() string {
	var b strings.Builder
	if e.Line > 0 {
		fmt.Fprintf(&b, "line %d: ", e.Line)
	}
	if e.Path != "" {
		b.WriteString(e.Path + ": ")
	}
	b.WriteString(e.Message)
	if e.Fix != "" {
		b.WriteString("; " + e.Fix)
	}
	return b.String()
}

// Errors is everything that is wrong with a document, in its order.
type Errors []Error

// Error returns one error a line.
func (e Errors) Error() string {
	lines := make([]string, len(e))
	for i, one := range e {
		lines[i] = one.Error()
	}
	return strings.Join(lines, "\n")
}
