package document

import (
	"bytes"
	"errors"
	"fmt"
	"hash/maphash"
	"io"

	"github.com/go-json-experiment/json/jsontext"

	"bivium/core/limits"
)

// jsonReader turns the values of a JSON text into nodes, and keeps the line.
type jsonReader struct {
	data   []byte
	values *jsontext.Decoder
	line   int
	seen   int64 // how far the newlines are counted
	keys   []keyNode
	items  []node // of the lists and objects that are not yet at their end
	nodes  store[node]
	names  store[keyNode]
	words  []string // short texts that were read, by hash: most stand many times
	seed   maphash.Seed
}

// store keeps copies of short lists in long ones.
type store[T any] struct{ free []T }

// shelf is how many values a store asks for at once, at most.
const shelf = 1 << 10

// keep returns a copy of the values, which nothing can be appended to in place.
func (s *store[T]) keep(values []T) []T {
	if len(values) == 0 {
		return nil
	}
	if len(values) > cap(s.free)-len(s.free) {
		s.free = make([]T, 0, max(len(values), min(shelf, max(16, 2*cap(s.free)))))
	}
	from := len(s.free)
	s.free = append(s.free, values...)
	return s.free[from:len(s.free):len(s.free)]
}

// longestWord is the length up to which texts are kept once.
const longestWord = 40

// wordsFor returns how many texts are kept for a document of a size in bytes.
func wordsFor(size int) int { return max(1<<6, min(size/64, 1<<12)) }

func parseJSON(data []byte) (node, error) {
	data = bytes.TrimPrefix(data, []byte("\ufeff"))
	r := &jsonReader{data: data, line: 1, seed: maphash.MakeSeed(), words: make([]string, wordsFor(len(data)))}
	r.values = jsontext.NewDecoder(bytes.NewBuffer(data), jsontext.AllowDuplicateNames(true))
	n, err := r.value(0)
	if err == nil {
		if _, end := r.values.ReadToken(); !errors.Is(end, io.EOF) {
			return node{}, Errors{{Line: r.at(), Message: "there is more text after the end of the document", Fix: "keep one document in a file"}}
		}
		return n, nil
	}
	var known Errors
	if errors.As(err, &known) {
		return node{}, known
	}
	var syntax *jsontext.SyntacticError
	if errors.As(err, &syntax) {
		at := min(max(syntax.ByteOffset, r.seen), int64(len(data)))
		line := r.line + bytes.Count(data[r.seen:at], []byte("\n"))
		why := syntax.Err.Error()
		if errors.Is(syntax.Err, io.ErrUnexpectedEOF) {
			why = "unexpected end of the document"
		}
		return node{}, Errors{{Line: line, Message: "this is not JSON: " + why, Fix: "correct the syntax"}}
	}
	return node{}, Errors{{Line: r.at(), Message: "this is not JSON: unexpected end of the document", Fix: "correct the syntax"}}
}

// at returns the line of the last value.
func (r *jsonReader) at() int {
	offset := r.values.InputOffset()
	r.line += bytes.Count(r.data[r.seen:offset], []byte("\n"))
	r.seen = offset
	return r.line
}

func (r *jsonReader) value(depth int) (node, error) {
	if depth > limits.DocumentDepth {
		return node{}, Errors{{Line: r.at(), Message: fmt.Sprintf("the document nests deeper than %d levels", limits.DocumentDepth), Fix: "reduce the nesting; estates need at most eight levels"}}
	}
	switch r.values.PeekKind() {
	case '{':
		return r.object(depth)
	case '[':
		return r.list(depth)
	}
	raw, err := r.values.ReadValue()
	if err != nil {
		return node{}, err
	}
	n := node{line: int32(r.at())}
	switch raw.Kind() {
	case 'n':
		n.kind = nullNode
	case '"':
		n.quoted = true
		n.text, err = r.text(raw)
	default:
		n.text = r.word(raw)
	}
	return n, err
}

func (r *jsonReader) object(depth int) (node, error) {
	if _, err := r.values.ReadToken(); err != nil {
		return node{}, err
	}
	n := node{kind: objectNode, line: int32(r.at())}
	keys, items := len(r.keys), len(r.items)
	for r.values.PeekKind() != '}' {
		raw, err := r.values.ReadValue()
		if err != nil {
			return node{}, err
		}
		key, err := r.text(raw)
		if err != nil {
			return node{}, err
		}
		r.keys = append(r.keys, keyNode{key, int32(r.at())})
		item, err := r.value(depth + 1)
		if err != nil {
			return node{}, err
		}
		r.items = append(r.items, item)
	}
	n.keys, n.items = r.names.keep(r.keys[keys:]), r.nodes.keep(r.items[items:])
	r.keys, r.items = r.keys[:keys], r.items[:items]
	_, err := r.values.ReadToken()
	return n, err
}

func (r *jsonReader) list(depth int) (node, error) {
	if _, err := r.values.ReadToken(); err != nil {
		return node{}, err
	}
	n := node{kind: listNode, line: int32(r.at())}
	items := len(r.items)
	for r.values.PeekKind() != ']' {
		item, err := r.value(depth + 1)
		if err != nil {
			return node{}, err
		}
		r.items = append(r.items, item)
	}
	n.items = r.nodes.keep(r.items[items:])
	r.items = r.items[:items]
	_, err := r.values.ReadToken()
	return n, err
}

// text returns the text of a quoted string.
func (r *jsonReader) text(raw jsontext.Value) (string, error) {
	if bytes.IndexByte(raw, '\\') < 0 {
		return r.word(raw[1 : len(raw)-1]), nil
	}
	text, err := jsontext.AppendUnquote(nil, raw)
	return string(text), err
}

// word returns a text; a short one that was read before mostly as the same
// string, so that it takes no memory again.
func (r *jsonReader) word(raw []byte) string {
	if len(raw) > longestWord {
		return string(raw)
	}
	known := &r.words[maphash.Bytes(r.seed, raw)%uint64(len(r.words))]
	if *known != string(raw) {
		*known = string(raw)
	}
	return *known
}
