package history

import (
	"bytes"
	"context"
	"encoding/json"
	"net/netip"
	"slices"
	"strings"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/recompile"
	"bivium/core/trace"
	"bivium/core/verdict"
	"bivium/internal/app/view"
	"bivium/internal/wording"
)

// Since is a revision that made the outcome of a flow what it was from then on.
type Since struct {
	Entry
	Was  []wording.Token `json:"was"`  // the sentence on the flow before it
	Will []wording.Token `json:"will"` // and after it
}

// Blame is since when a flow has its outcome, and which revisions changed it before.
type Blame struct {
	Now    []wording.Token `json:"now"`
	Since  []Since         `json:"since"`  // the newest first
	Looked int64           `json:"looked"` // the oldest revision that was looked at
}

// mostSince is how many changes of an outcome are told.
const mostSince = 6

// Blame returns since when a flow has its outcome (C4.3). Cost: of the revisions before, those
// that touch nothing that the flow may depend on are passed over.
func (h *History) Blame(ctx context.Context, q view.Question, sport int, publication string) (*Blame, error) {
	now := h.app.Now()
	flow, err := now.ParseFlow(q.From, q.To, q.On, sport, publication)
	if err != nil {
		return nil, err
	}
	judge := now.Judge
	t := trace.Of(judge, flow)
	out := &Blame{Now: wording.Sentence(&t), Since: []Since{}, Looked: now.Revision}
	verdictNow, words := judge.Judge(flow), out.Now
	ends := endsOf(now.Estate, flow)
	e := now.Estate
	var failed error
	err = h.store.Changed(ctx, now.Revision, 0, func(revision int64, changes []document.Change) bool {
		if failed = ctx.Err(); failed != nil {
			return false
		}
		out.Looked = revision - 1
		before, err := document.Restore(e, changes)
		if err != nil {
			failed = err
			return false
		}
		before.Day = e.Day
		e = before
		if !slices.ContainsFunc(changes, func(c document.Change) bool { return concerns(&c, flow, ends) }) {
			return true
		}
		judge, _ = recompile.Revise(judge, before)
		was := judge.Judge(flow)
		if same(&was, &verdictNow) {
			return true
		}
		t := trace.Of(judge, flow)
		s := Since{Was: wording.Sentence(&t), Will: words}
		row, err := h.store.RevisionOf(ctx, revision)
		if err == nil {
			s.Entry, err = h.entry(row)
		}
		if failed = err; err != nil {
			return false
		}
		out.Since = append(out.Since, s)
		verdictNow, words = was, s.Was
		return len(out.Since) < mostSince
	})
	if failed != nil {
		err = failed
	}
	return out, err
}

// same reports whether people would call two outcomes the same.
func same(a, b *verdict.Verdict) bool {
	return a.Outcome == b.Outcome && a.Intended == b.Intended && slices.Equal(a.Pools, b.Pools) && a.Reason == b.Reason && slices.Equal(a.By, b.By)
}

// endsOf returns the names of the workloads at the ends of a flow.
func endsOf(e *estate.Estate, f verdict.Flow) map[string]bool {
	out := map[string]bool{}
	for i := range e.Workloads {
		w := &e.Workloads[i]
		if slices.Contains(w.Addresses, f.Source) || slices.Contains(w.Addresses, f.Destination) {
			out[w.Name] = true
		}
	}
	return out
}

// concerns reports whether a flow may depend on what changed. It errs on the side of yes.
func concerns(c *document.Change, f verdict.Flow, ends map[string]bool) bool {
	switch document.KindOf(c.List) {
	case estate.KindExpectation, estate.KindAccount, estate.KindMapping:
		return false
	case estate.KindWorkload:
		if ends[c.Key] || ends[c.Was] {
			return true
		}
		for _, body := range [][]byte{c.Before, c.After} {
			for _, a := range []netip.Addr{f.Source, f.Destination} {
				if bytes.Contains(body, []byte(`"`+a.String()+`"`)) {
					return true
				}
			}
		}
		return false
	case estate.KindAttachment:
		return !onlyLearned(c) || learnedOf(c.Before, f) != learnedOf(c.After, f)
	}
	return true
}

// attachmentBody is an attachment as it is stored, as far as it matters here.
type attachmentBody struct {
	rest    string
	learned []struct {
		Prefix  netip.Prefix
		Segment string
		Status  string
	}
}

func readAttachment(body []byte) (out attachmentBody, ok bool) {
	var keys map[string]json.RawMessage
	if json.Unmarshal(body, &keys) != nil {
		return out, false
	}
	if json.Unmarshal(keys["learned"], &out.learned) != nil && keys["learned"] != nil {
		return out, false
	}
	delete(keys, "learned")
	rest, err := json.Marshal(keys) // in the order of keys
	out.rest = string(rest)
	return out, err == nil
}

// onlyLearned reports whether only what is learned on an attachment changed.
func onlyLearned(c *document.Change) bool {
	if c.Before == nil || c.After == nil || c.Was != "" {
		return false
	}
	a, readA := readAttachment(c.Before)
	b, readB := readAttachment(c.After)
	return readA && readB && a.rest == b.rest
}

// learnedOf returns what is learned on an attachment that contains an end of a flow.
func learnedOf(body []byte, f verdict.Flow) string {
	a, _ := readAttachment(body)
	var out []string
	for _, l := range a.learned {
		if l.Prefix.Contains(f.Source) || l.Prefix.Contains(f.Destination) {
			out = append(out, l.Segment+" "+l.Prefix.String()+" "+l.Status)
		}
	}
	return strings.Join(out, ",")
}
