package document

import (
	"bytes"
	"encoding/json"
	"reflect"
	"regexp"
	"slices"

	"bivium/core/estate"
)

// Value is a part of a document whose type is known later only: the object of an edit.
type Value struct {
	n  node
	at string // its path in the document
}

// ValueOf returns what data holds, in YAML or JSON, or Errors.
func ValueOf(data []byte) (Value, error) {
	n, err := parse(data)
	return Value{n: n}, err
}

// Given reports whether there is a value at all.
func (v Value) Given() bool { return v.n.kind != scalarNode || v.n.text != "" || v.n.quoted }

// Thing reads the value as one thing of a kind, as strictly as Read does. It gives the thing
// as a settable value of its type in package estate, or Errors with their lines and paths in
// the document of the value.
func (v Value) Thing(kind estate.Kind) (reflect.Value, error) {
	list := Things(&estate.Estate{}, kind)
	if !list.IsValid() {
		return reflect.Value{}, Errors{{Line: int(v.n.line), Path: v.at, Message: "there are no things of the kind " + string(kind), Fix: "use one of the kinds of docs/formats.md"}}
	}
	thing := reflect.New(list.Type().Elem()).Elem()
	var r reader
	r.value(v.n, thing, nil, nil)
	if len(r.errors) == 0 {
		return thing, nil
	}
	for i := range r.errors {
		e := &r.errors[i]
		switch {
		case v.at != "" && e.Path != "":
			e.Path = v.at + "." + e.Path
		case v.at != "":
			e.Path = v.at
		}
	}
	slices.SortStableFunc(r.errors, func(a, b Error) int { return a.Line - b.Line })
	return reflect.Value{}, r.errors
}

// UnmarshalJSON takes a JSON text as it is; what is wrong with it is told once it is read as a
// thing.
func (v *Value) UnmarshalJSON(data []byte) error {
	n, err := parse(bytes.Clone(data))
	*v = Value{n: n}
	return err
}

// plainJSON are scalars that YAML and JSON write alike without quotes, and that are not text.
var plainJSON = regexp.MustCompile(`^(true|false|null|-?(0|[1-9][0-9]*)(\.[0-9]+)?)$`)

// MarshalJSON returns the value as JSON.
func (v Value) MarshalJSON() ([]byte, error) {
	var b bytes.Buffer
	v.n.writeJSON(&b)
	return b.Bytes(), nil
}

func (n *node) writeJSON(b *bytes.Buffer) {
	switch n.kind {
	case nullNode:
		b.WriteString("null")
	case scalarNode:
		if !n.quoted && plainJSON.MatchString(n.text) {
			b.WriteString(n.text)
			return
		}
		quoted, _ := json.Marshal(n.text)
		b.Write(quoted)
	case listNode:
		b.WriteByte('[')
		for i := range n.items {
			if i > 0 {
				b.WriteByte(',')
			}
			n.items[i].writeJSON(b)
		}
		b.WriteByte(']')
	case objectNode:
		b.WriteByte('{')
		for i := range n.items {
			if i > 0 {
				b.WriteByte(',')
			}
			key, _ := json.Marshal(n.keys[i].text)
			b.Write(key)
			b.WriteByte(':')
			n.items[i].writeJSON(b)
		}
		b.WriteByte('}')
	}
}
