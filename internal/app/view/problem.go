package view

import (
	"strings"

	"bivium/core/document"
)

// Problem is something wrong with what a user asked for: where, what, and how
// to fix it. At is the field: "from", "to", "on", or a path such as
// rules[0].services[1].
type Problem struct {
	At      string `json:"at"`
	Message string `json:"message"`
	Fix     string `json:"fix,omitempty"`
	// Character is the one of the field's text at which it goes wrong, from 1; 0 for the field as a whole.
	Character int `json:"character,omitempty"`
}

// Error returns the problem as one line.
func (p *Problem) Error() string {
	text := p.Message
	if p.At != "" {
		text = p.At + ": " + text
	}
	if p.Fix != "" {
		text += "; " + p.Fix
	}
	return text
}

// Problems is everything that is wrong with an edit.
type Problems []Problem

// Error returns one problem a line.
func (p Problems) Error() string {
	lines := make([]string, len(p))
	for i := range p {
		lines[i] = p[i].Error()
	}
	return strings.Join(lines, "\n")
}

// ProblemsOf tells which things could not be read again.
func ProblemsOf(refused []*document.Unreadable) Problems {
	var out Problems
	for _, u := range refused {
		for _, e := range u.Errors {
			at := u.List + "[" + u.Key + "]"
			if e.Path != "" {
				at += "." + e.Path
			}
			out = append(out, Problem{At: at, Message: e.Message, Fix: e.Fix})
		}
	}
	return out
}
