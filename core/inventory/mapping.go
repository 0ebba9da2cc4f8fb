package inventory

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"bivium/core/estate"
)

// Labelled is what mapping makes of the tags of one thing.
type Labelled struct {
	Labels    map[string]string
	By        map[string]int // by label: the number of the rule that gave it
	Unmapped  []string       // keys of tags that no rule speaks of, sorted
	Conflicts []Conflict
}

// Conflict is a label that two rules give different values.
type Conflict struct {
	Label  string `json:"label"`
	Value  string `json:"value"` // that stands
	By     int    `json:"by"`
	Other  string `json:"other"` // that is outvoted
	Beside int    `json:"beside"`
}

// Table is mapping rules, checked and ready for use, by one user at a time.
type Table struct {
	rules []rule
	known map[string]Labelled // by provider, account and tags: many things wear the same
}

type rule struct {
	estate.MappingRule
	keys, values []string
}

// NewTable returns the table of some rules.
func NewTable(rules []estate.MappingRule) *Table {
	t := &Table{known: map[string]Labelled{}}
	for _, m := range rules {
		t.rules = append(t.rules, rule{m, patterns(m.Key), patterns(m.Value)})
	}
	return t
}

// patterns returns the alternatives of a pattern, in the spelling in which tags
// are compared.
func patterns(s string) []string {
	var out []string
	for one := range strings.SplitSeq(s, "|") {
		if one = fold(one); one != "" {
			out = append(out, one)
		}
	}
	return out
}

// fold puts different spellings of a word into one: case, and what stands
// between its parts.
func fold(s string) string {
	return strings.Map(func(r rune) rune {
		switch r {
		case ' ', '_', '\t':
			return '-'
		}
		return r
	}, strings.ToLower(strings.TrimSpace(s)))
}

// Tidy returns a tag's value as a label can hold it: in lower case, with dashes
// for what labels cannot hold, and not too long.
func Tidy(value string) string {
	out := []byte(fold(value))
	for i := range out {
		if estate.CheckLabel("k", string(out[i])) != nil {
			out[i] = '-'
		}
	}
	return string(out[:min(len(out), estate.MaxLabel)])
}

// matches reports whether a word is one of some patterns, in which * stands for
// anything.
func matches(patterns []string, word string) bool {
	return slices.ContainsFunc(patterns, func(p string) bool { return glob(p, word) })
}

func glob(pattern, word string) bool {
	parts := strings.Split(pattern, "*")
	if len(parts) == 1 {
		return pattern == word
	}
	rest, ok := strings.CutPrefix(word, parts[0])
	if !ok {
		return false
	}
	for _, part := range parts[1 : len(parts)-1] {
		i := strings.Index(rest, part)
		if i < 0 {
			return false
		}
		rest = rest[i+len(part):]
	}
	return strings.HasSuffix(rest, parts[len(parts)-1])
}

// Labels maps the tags of a thing of an account. The answer must not be changed.
// Cost: the tags times the rules, once for equal tags.
func (t *Table) Labels(provider, account string, tags map[string]string) Labelled {
	keys := slices.Sorted(maps.Keys(tags))
	wears := fmt.Sprintf("%q %q", provider, account) // whatever stands in them
	for _, key := range keys {
		wears += fmt.Sprintf(" %q %q", key, tags[key])
	}
	out, known := t.known[wears]
	if !known {
		out = t.labels(provider, account, keys, tags)
		t.known[wears] = out
	}
	return out
}

func (t *Table) labels(provider, account string, keys []string, tags map[string]string) Labelled {
	out := Labelled{Labels: map[string]string{}, By: map[string]int{}}
	from := map[string]string{} // by label: the key of the tag that it comes of
	spoken := make(map[string]bool, len(tags))
	folded := make([][2]string, len(keys)) // of each tag: its key and its value
	for i, key := range keys {
		folded[i] = [2]string{fold(key), fold(tags[key])}
	}
	for i := range t.rules {
		r := &t.rules[i]
		if r.Provider != "" && r.Provider != provider || r.Account != "" && r.Account != account {
			continue
		}
		for k, key := range keys {
			if !matches(r.keys, folded[k][0]) || len(r.values) > 0 && !matches(r.values, folded[k][1]) {
				continue
			}
			spoken[key] = true
			to := r.To
			if to == "" {
				to = Tidy(tags[key])
			}
			had, taken := out.Labels[r.Label]
			switch {
			case !taken:
				out.Labels[r.Label], out.By[r.Label], from[r.Label] = to, i, key
			case had != to && from[r.Label] != key:
				out.Conflicts = append(out.Conflicts, Conflict{r.Label, had, out.By[r.Label], to, i})
			}
		}
	}
	for _, key := range keys {
		if !spoken[key] {
			out.Unmapped = append(out.Unmapped, key)
		}
	}
	return out
}
