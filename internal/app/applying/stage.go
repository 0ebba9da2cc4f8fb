package applying

import (
	"context"
	"fmt"

	"bivium/core/native/plan"
	"bivium/internal/app/view"
	"bivium/internal/store"
)

// baseline returns the packets that come out otherwise than predicted before anything is written:
// they say nothing of what is.
func (s *Service) baseline(ctx context.Context, before *view.Snapshot) ([]string, error) {
	wrong, _, err := s.stage(ctx, before, before, nil, true, 0)
	out := []string{}
	for i := range wrong {
		out = append(out, wrong[i].Flow)
	}
	return out, err
}

// stageOf returns the step whose writes may be begun; "" for any.
func (r *run) stageOf() plan.Step {
	if !r.Staged {
		return ""
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for i := range r.writes {
		if r.writes[i].State != store.WriteDone {
			return r.Writes[i].Step
		}
	}
	return ""
}

// ledFrom returns the estate that a plan leads from; nil where that is not known.
func (s *Service) ledFrom(ctx context.Context, r *run) *view.Snapshot {
	s.mu.Lock()
	before := s.before
	s.mu.Unlock()
	if before != nil || s.asOf == nil || r.From == 0 {
		return before
	}
	before, err := s.asOf(ctx, r.From)
	if err != nil {
		s.log.Error("the estate that a plan leads from could not be read", "plan", r.id, "revision", r.From, "error", err)
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.before == nil {
		s.before = before
	}
	return before
}

// checkStage sends packets once a step is written, and reports whether the plan may go on. If one
// does not come out as it may, the revision is taken back.
func (s *Service) checkStage(ctx context.Context, r *run, step plan.Step, last bool) bool {
	now := s.app.Now()
	before := s.ledFrom(ctx, r)
	if before == nil {
		before = now
		if !last { // without the estate of before only the end can be judged
			return true
		}
	}
	known := map[string]bool{}
	for _, k := range r.Known {
		known[k] = true
	}
	wrong, sent, err := s.stage(ctx, before, now, known, last, r.id)
	if err != nil {
		s.stuck(ctx, r, fmt.Sprintf("after the step %q no packets could be sent: %v", step, err))
		return false
	}
	if len(wrong) == 0 {
		return true
	}
	w := &wrong[0]
	why := fmt.Sprintf("after the step %q, %d of %d packets did not come out as predicted: %s to %s on %s was predicted %s, and was %s", step, len(wrong), sent, w.Witness.Source, w.Witness.Destination, w.Witness.On, w.Predicted.Words, w.Words)
	s.stuck(ctx, r, why)
	if s.back != nil {
		go func() {
			if err := s.back(s.ctx, r.to, why); err != nil {
				s.log.Error("a revision could not be taken back", "revision", r.to, "error", err)
				s.stuck(s.ctx, r, why+"; it could not be taken back: "+err.Error())
			}
		}()
	}
	return false
}

func (s *Service) stuck(ctx context.Context, r *run, why string) {
	if err := s.move(context.WithoutCancel(ctx), r, store.PlanStuck, why); err != nil {
		s.log.Error("a plan could not be stopped", "plan", r.id, "error", err)
	}
}
