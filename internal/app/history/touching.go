package history

import (
	"bytes"
	"net/netip"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/verdict"
)

// touching tells whether a flow may depend on what a revision changed. It errs on the side of
// yes.
type touching struct {
	flow   verdict.Flow
	quoted [2][]byte             // the addresses of its ends, as bodies write them
	ends   map[string]bool       // the names of the workloads at its ends
	known  map[string]*announced // by the body of an attachment: routers take few turns
}

// announced is an attachment, as far as it matters to a flow.
type announced struct {
	rest string // all but what is learned on it
	here string // what is learned on it that contains an end of the flow
}

func touchingOf(e *estate.Estate, f verdict.Flow) *touching {
	out := &touching{flow: f, ends: map[string]bool{}, known: map[string]*announced{}}
	for i, a := range []netip.Addr{f.Source, f.Destination} {
		out.quoted[i] = []byte(`"` + a.String() + `"`)
	}
	for i := range e.Workloads {
		w := &e.Workloads[i]
		if slices.Contains(w.Addresses, f.Source) || slices.Contains(w.Addresses, f.Destination) {
			out.ends[w.Name] = true
		}
	}
	return out
}

func (t *touching) any(changes []document.Change) bool {
	return slices.ContainsFunc(changes, func(c document.Change) bool { return t.one(&c) })
}

func (t *touching) one(c *document.Change) bool {
	switch document.KindOf(c.List) {
	case estate.KindExpectation, estate.KindAccount, estate.KindMapping:
		return false
	case estate.KindWorkload:
		has := func(body []byte) bool { return bytes.Contains(body, t.quoted[0]) || bytes.Contains(body, t.quoted[1]) }
		return t.ends[c.Key] || t.ends[c.Was] || has(c.Before) || has(c.After)
	case estate.KindAttachment:
		if c.Before == nil || c.After == nil || c.Was != "" {
			return true
		}
		after, before := t.read(c.After), t.read(c.Before)
		return after == nil || before == nil || after.rest != before.rest || after.here != before.here
	}
	return true
}

// mostKnown is how many bodies of attachments are remembered.
const mostKnown = 1 << 14

// read reads an attachment; nil for one that cannot be read.
func (t *touching) read(body []byte) *announced {
	if known := t.known[string(body)]; known != nil {
		return known
	}
	var x struct {
		Learned []struct {
			Prefix  netip.Prefix `json:"prefix"`
			Segment string       `json:"segment"`
			Status  string       `json:"status"`
		} `json:"learned"`
		Rest jsontext.Value `json:",unknown"`
	}
	if json.Unmarshal(body, &x) != nil {
		return nil
	}
	out := &announced{rest: string(x.Rest)}
	for _, l := range x.Learned {
		if l.Prefix.Contains(t.flow.Source) || l.Prefix.Contains(t.flow.Destination) {
			out.here += strings.Join([]string{l.Segment, l.Prefix.String(), l.Status, ","}, " ")
		}
	}
	if len(t.known) == mostKnown {
		clear(t.known)
	}
	t.known[string(body)] = out
	return out
}
