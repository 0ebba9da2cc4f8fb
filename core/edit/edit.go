// Package edit is the language in which an estate is changed (C1): an ordered list of
// operations that put, rename and delete its things. Whatever changes an estate on behalf of
// a person or a script is an edit; screens, files and suggestions differ in how they help to
// write one.
//
// In a file or a request it is a document of its own, in YAML or JSON:
//
//	operations:
//	  - {op: put, kind: group, object: {name: crews, match: "role=crew"}}
//	  - {op: rename, kind: segment, name: office, to: offices}
//	  - {op: delete, kind: policy, name: old-rule, base: 5d41402abc4b2a76b9719d91}
package edit

import (
	"fmt"

	"bivium/core/document"
	"bivium/core/estate"
)

// Op is what an operation does.
type Op string

// The operations. Put adds a thing, or replaces the one of its kind and name; after Rename,
// all that referred to a thing refers to it under its new name.
const (
	Put    Op = "put"
	Rename Op = "rename"
	Delete Op = "delete"
)

// Absent is the base of a thing that its author saw was not there.
const Absent = "absent"

// Operation is one step of an edit.
type Operation struct {
	Op     Op             `json:"op" doc:"req,enum=put|rename|delete"`
	Kind   estate.Kind    `json:"kind" doc:"req"`
	Name   string         `json:"name,omitempty"`  // of the thing; of a put, its object says it
	To     string         `json:"to,omitempty"`    // the new name of a rename
	Object document.Value `json:"object,omitzero"` // of a put: the whole thing as it shall be
	Base   string         `json:"base,omitempty"`  // as its author saw the thing: see document.Base; "" for whatever it is
}

// Subject returns the name of the thing that the operation is about, as it is before it; ""
// where that cannot be read.
func (o *Operation) Subject() string {
	if o.Op != Put || o.Name != "" {
		return o.Name
	}
	thing, err := o.Object.Thing(o.Kind)
	if err != nil {
		return ""
	}
	return document.NameOf(thing)
}

// Edit is operations in their order: each is made on what those before it left.
type Edit struct {
	Operations []Operation `json:"operations" doc:"req"`
}

// Read returns the edit that data holds, in YAML or JSON, or document.Errors.
func Read(data []byte) (*Edit, error) {
	e, err := document.ReadOne[Edit](data)
	if err != nil {
		return nil, err
	}
	return &e, nil
}

// Problem is an operation that cannot be made, and why.
type Problem struct {
	At      int    // the place of the operation among those of the edit
	Path    string // of what is wrong within the operation: object.rules[0].pool
	Line    int    // in the text of the edit; 0 if unknown
	Message string
	Fix     string
	// Character is the one of the value at which it goes wrong, from 1; 0 for the value as a whole.
	Character int
}

// Problems is all that is wrong with an edit.
type Problems []Problem

// Error returns one problem a line.
func (p Problems) Error() string {
	out := ""
	for i := range p {
		if i > 0 {
			out += "\n"
		}
		out += fmt.Sprintf("operation %d: %s: %s; %s", p[i].At+1, p[i].Path, p[i].Message, p[i].Fix)
	}
	return out
}

// Conflict is returned for an operation on a thing that has been changed since its author saw
// it.
type Conflict struct {
	At    int
	Thing estate.Ref
	Now   []byte // the thing as it is by now, as canonical JSON; nil if it is not there
}

// Error says which thing is in conflict.
func (c *Conflict) Error() string {
	if c.Now == nil {
		return fmt.Sprintf("%s was removed by somebody else in the meantime", c.Thing)
	}
	return fmt.Sprintf("%s was changed by somebody else in the meantime", c.Thing)
}

// InUse is returned for the deletion of a thing that others refer to.
type InUse struct {
	At    int
	Thing estate.Ref
	By    []estate.Ref
	Along *Along
}

// Error says what refers to the thing.
func (u *InUse) Error() string {
	names := ""
	for i, r := range u.By {
		if i == 3 && len(u.By) > 4 {
			names += fmt.Sprintf(" and %d more", len(u.By)-i)
			break
		}
		if i > 0 {
			names += ", "
		}
		names += r.String()
	}
	return fmt.Sprintf("%s is in use by %s", u.Thing, names)
}
