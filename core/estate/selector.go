package estate

import (
	"fmt"
	"slices"
	"strings"
)

// Selector is a parsed label selector (M3.3). The zero Selector has no parts,
// and selects everything; ParseSelector never returns it without an error.
type Selector struct{ parts []selectorPart }

type selectorPart struct {
	key    string
	op     selectorOp
	values []string
}

type selectorOp uint8

const (
	opHas selectorOp = iota
	opHasNot
	opIn
	opNotIn
)

// Matches reports whether labels satisfy every part. Of a missing key, "!key",
// "!=" and "notin" hold, and the rest do not. Cost: one map look-up a part.
func (s Selector) Matches(labels map[string]string) bool {
	for _, p := range s.parts {
		value, has := labels[p.key]
		var holds bool
		switch p.op {
		case opHas:
			holds = has
		case opHasNot:
			holds = !has
		case opIn:
			holds = has && slices.Contains(p.values, value)
		case opNotIn:
			holds = !has || !slices.Contains(p.values, value)
		default:
			panic("estate: unknown selector operator")
		}
		if !holds {
			return false
		}
	}
	return true
}

// Needs returns a key, and the values of which a thing must have one there to be
// selected; false if the selector asks for no such thing.
func (s Selector) Needs() (key string, values []string, ok bool) {
	for _, p := range s.parts {
		if p.op == opIn {
			return p.key, p.values, true
		}
	}
	return "", nil, false
}

// ParseSelector returns the selector that text is written as: parts with
// commas between, each key, !key, key=value, key==value, key!=value,
// key in (a, b) or key notin (a, b). Spaces between tokens do not matter. An
// error is a SelectorError.
func ParseSelector(text string) (Selector, error) {
	p := selectorParser{text: text}
	var s Selector
	for {
		part, err := p.part()
		if err != nil {
			return Selector{}, err
		}
		s.parts = append(s.parts, part)
		p.space()
		if p.at == len(p.text) {
			return s, nil
		}
		if !p.take(",") {
			return Selector{}, p.fail("a comma or the end")
		}
	}
}

type selectorParser struct {
	text string
	at   int
}

func (p *selectorParser) part() (selectorPart, error) {
	p.space()
	if p.take("!") {
		p.space()
		key, err := p.word("a key")
		return selectorPart{key: key, op: opHasNot}, err
	}
	key, err := p.word("a key")
	if err != nil {
		return selectorPart{}, err
	}
	p.space()
	switch {
	case p.take("!="):
		return selectorPart{key, opNotIn, []string{p.maybeEmpty()}}, nil
	case p.take("=="), p.take("="):
		return selectorPart{key, opIn, []string{p.maybeEmpty()}}, nil
	case p.keyword("notin"):
		values, err := p.list()
		return selectorPart{key, opNotIn, values}, err
	case p.keyword("in"):
		values, err := p.list()
		return selectorPart{key, opIn, values}, err
	}
	return selectorPart{key: key, op: opHas}, nil
}

func (p *selectorParser) list() ([]string, error) {
	p.space()
	if !p.take("(") {
		return nil, p.fail("( and a list of values")
	}
	var values []string
	for {
		p.space()
		value, err := p.word("a value")
		if err != nil {
			return nil, err
		}
		values = append(values, value)
		p.space()
		if p.take(")") {
			return values, nil
		}
		if !p.take(",") {
			return nil, p.fail("a comma or )")
		}
	}
}

// maybeEmpty returns the value after an operator: a label may have an empty one.
func (p *selectorParser) maybeEmpty() string {
	p.space()
	start := p.at
	for p.at < len(p.text) && isLabelByte(p.text[p.at]) {
		p.at++
	}
	return p.text[start:p.at]
}

func (p *selectorParser) word(what string) (string, error) {
	word := p.maybeEmpty()
	if word == "" {
		return "", p.fail(what)
	}
	return word, nil
}

func (p *selectorParser) keyword(word string) bool {
	end := p.at + len(word)
	if !strings.HasPrefix(p.text[p.at:], word) || end < len(p.text) && isLabelByte(p.text[end]) {
		return false
	}
	p.at = end
	return true
}

func (p *selectorParser) take(token string) bool {
	if strings.HasPrefix(p.text[p.at:], token) {
		p.at += len(token)
		return true
	}
	return false
}

func (p *selectorParser) space() {
	for p.at < len(p.text) && p.text[p.at] == ' ' {
		p.at++
	}
}

func (p *selectorParser) fail(wanted string) error { return &SelectorError{p.text, p.at + 1, wanted} }

// SelectorError is a slip in a selector.
type SelectorError struct {
	Text      string
	Character int    // at which it is, from 1; one more than there are for the end
	Wanted    string // what is expected there
}

// Error says where the slip is, and what is expected there.
func (e *SelectorError) Error() string {
	found := "the end"
	if e.Character <= len(e.Text) {
		found = fmt.Sprintf("%q", e.Text[e.Character-1:min(len(e.Text), e.Character+11)])
	}
	return fmt.Sprintf("selector %q, character %d: %s found where %s is expected", e.Text, e.Character, found, e.Wanted)
}

// isLabelByte reports whether c may stand in a label's key or value.
func isLabelByte(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte("._-/:@+", c) >= 0
}

// MaxLabel is the length of the longest key or value of a label.
const MaxLabel = 253

// CheckLabel returns nil if key=value may be a label: both made of letters,
// digits and ._-/:@+, the key not empty. Selectors can then name either.
func CheckLabel(key, value string) error {
	if key == "" {
		return fmt.Errorf("a label has an empty key; give it a key")
	}
	for _, s := range []string{key, value} {
		if len(s) > MaxLabel {
			return fmt.Errorf("the label %.20q… has a part of %d characters; the limit is %d", key, len(s), MaxLabel)
		}
		for i := range len(s) {
			if !isLabelByte(s[i]) {
				return fmt.Errorf("the label %s=%q contains %q; labels consist of letters, digits and ._-/:@+", key, value, string(s[i]))
			}
		}
	}
	return nil
}

// Tells returns the keys that the selector looks at, each with the values of it that it tells
// from others.
func (s Selector) Tells() map[string][]string {
	out := map[string][]string{}
	for _, p := range s.parts {
		out[p.key] = append(out[p.key], p.values...)
	}
	return out
}
