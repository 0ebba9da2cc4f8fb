package history

import (
	"context"
	"slices"

	"bivium/core/document"
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

// Blame returns since when a flow has its outcome (C4.3). Cost: the revisions before are read;
// those that touch nothing that the flow may depend on are passed over.
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
	e, touching := now.Estate, touchingOf(now.Estate, flow)
	var past document.Past // what changed before e
	var failed error
	err = h.store.Changed(ctx, now.Revision, 0, func(revision int64, changes []document.Change) bool {
		if failed = ctx.Err(); failed != nil {
			return false
		}
		out.Looked = revision - 1
		past.Add(changes)
		if !touching.any(changes) {
			return true
		}
		if e, failed = past.Restore(e); failed != nil {
			return false
		}
		past = document.Past{}
		judge, _ = recompile.Revise(judge, e)
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
