package document

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"bivium/core/limits"
)

type nodeKind uint8

const (
	scalarNode nodeKind = iota
	listNode
	objectNode
	nullNode
)

// String returns the kind as an error message calls it.
func (k nodeKind) String() string {
	return [...]string{"a plain value", "a list", "an object", "nothing"}[k]
}

// node is one value of a document, from either syntax.
type node struct {
	kind   nodeKind
	quoted bool  // a scalar that can only be text
	line   int32 // from 1; 0 if unknown
	text   string
	keys   []keyNode // of an object, beside items
	items  []node
}

// keyNode is a key of an object.
type keyNode struct {
	text string
	line int32
}

// node returns the key as a value, to tell where it stands.
func (k keyNode) node() node { return node{line: k.line, text: k.text} }

// parse returns the document as nodes. JSON is told by its first character.
func parse(data []byte) (node, error) {
	if len(data) > limits.DocumentBytes {
		return node{}, Errors{{Message: fmt.Sprintf("the document has %d MiB; the limit is %d", len(data)>>20, limits.DocumentBytes>>20), Fix: "split the estate"}}
	}
	if !utf8.Valid(data) {
		return node{}, Errors{{Line: invalidLine(data), Message: "the document is not valid UTF-8", Fix: "save it as UTF-8"}}
	}
	if trimmed := bytes.TrimLeft(data, " \t\r\n\ufeff"); len(trimmed) == 0 || trimmed[0] != '{' {
		return parseYAML(data)
	}
	n, err := parseJSON(data)
	if err != nil && !json.Valid(bytes.TrimPrefix(data, []byte("\ufeff"))) {
		// YAML may begin with a brace too. What is neither was meant as JSON.
		if other, errYAML := parseYAML(data); errYAML == nil {
			return other, nil
		}
	}
	return n, err
}

func invalidLine(data []byte) int {
	line := 1
	for len(data) > 0 {
		r, n := utf8.DecodeRune(data)
		if r == utf8.RuneError && n <= 1 {
			break
		}
		if r == '\n' {
			line++
		}
		data = data[n:]
	}
	return line
}

var yamlLine = regexp.MustCompile(`line (\d+): `)

func parseYAML(data []byte) (node, error) {
	decoder := yaml.NewDecoder(bytes.NewReader(data))
	var doc yaml.Node
	if err := decoder.Decode(&doc); err != nil {
		if errors.Is(err, io.EOF) {
			return node{}, Errors{{Line: 1, Message: "the document is empty", Fix: "start it with: bivium: 1"}}
		}
		message := strings.TrimPrefix(err.Error(), "yaml: ")
		line := 0
		if m := yamlLine.FindStringSubmatch(message); m != nil {
			line, _ = strconv.Atoi(m[1])
			message = strings.Replace(message, m[0], "", 1)
		}
		return node{}, Errors{{Line: line, Message: "this is not YAML: " + message, Fix: "correct the syntax"}}
	}
	var second yaml.Node
	if err := decoder.Decode(&second); !errors.Is(err, io.EOF) {
		return node{}, Errors{{Line: second.Line, Message: "a second document follows", Fix: "keep one document in a file"}}
	}
	c := converter{left: limits.DocumentAliases}
	return c.convert(doc.Content[0], 0)
}

// converter turns the nodes of the YAML package into ours.
type converter struct {
	left   int // how many more nodes aliases may expand to
	inside int // how many aliases the node at hand stands in
}

func (c *converter) convert(y *yaml.Node, depth int) (node, error) {
	if c.inside > 0 {
		if c.left--; c.left < 0 {
			return node{}, Errors{{Line: y.Line, Message: "the document's aliases expand to too many values", Fix: "write the values without aliases"}}
		}
	}
	if depth > limits.DocumentDepth {
		return node{}, Errors{{Line: y.Line, Message: fmt.Sprintf("the document nests deeper than %d levels", limits.DocumentDepth), Fix: "reduce the nesting; estates need at most eight levels"}}
	}
	n := node{line: int32(y.Line), text: y.Value}
	switch y.Kind {
	case yaml.AliasNode:
		c.inside++
		defer func() { c.inside-- }()
		return c.convert(y.Alias, depth+1)
	case yaml.ScalarNode:
		n.quoted = y.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle|yaml.LiteralStyle|yaml.FoldedStyle) != 0
		if !n.quoted && (y.Value == "" || y.Value == "~" || y.Value == "null") {
			n.kind = nullNode
		}
	case yaml.SequenceNode:
		n.kind = listNode
		n.items = make([]node, len(y.Content))
		for i, item := range y.Content {
			var err error
			if n.items[i], err = c.convert(item, depth+1); err != nil {
				return node{}, err
			}
		}
	case yaml.MappingNode:
		n.kind = objectNode
		for i := 0; i+1 < len(y.Content); i += 2 {
			key, err := c.convert(y.Content[i], depth+1)
			if err != nil {
				return node{}, err
			}
			value, err := c.convert(y.Content[i+1], depth+1)
			if err != nil {
				return node{}, err
			}
			n.keys = append(n.keys, keyNode{key.text, key.line})
			n.items = append(n.items, value)
		}
	default:
		return node{}, Errors{{Line: y.Line, Message: "this is not a value", Fix: "correct the syntax"}}
	}
	return n, nil
}
