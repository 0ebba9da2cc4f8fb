package proof

import (
	"bivium/core/native/reader"
	"bivium/core/paths"
	"bivium/core/verdict"
)

// Expected returns what becomes of the first packet of a flow as the estate says: M8, but for
// the way back, which no first packet needs.
func Expected(j *verdict.Judge, f *verdict.Flow) reader.Fate {
	d := j.Decide(*f)
	if !d.Known {
		return reader.Fate{At: reader.Place{Kind: reader.StopUnknown}}
	}
	return fateOf(j, &d.Settlement, j.VerdictOf(&d.Settlement))
}

func fateOf(j *verdict.Judge, s *verdict.Settlement, v verdict.Verdict) reader.Fate {
	var out reader.Fate
	switch {
	case v.Outcome == verdict.Allowed || v.Outcome == verdict.Inspected || v.Reason == verdict.ReasonNoWayBack || v.Reason == verdict.ReasonAsymmetric:
		out.Delivered = true
	case v.Outcome == verdict.Denied:
		return reader.Fate{At: reader.Place{Kind: reader.StopHub}}
	case v.Outcome == verdict.Unrouted:
		return reader.Fate{At: reader.Place{Kind: reader.StopNoPath}}
	}
	for _, step := range s.Steps {
		if step.Hub == paths.None {
			continue
		}
		out.Pools = append(out.Pools, j.Pools[step.Pool].Name)
		if step.Blocked {
			return reader.Fate{Blocked: j.Pools[step.Pool].Name, At: reader.Place{Kind: reader.StopRulebook}}
		}
	}
	return out
}
