package edit_test

import (
	"errors"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/testing/oracle"
	"bivium/core/verdict"
)

func faults(e *estate.Estate) []estate.Fault {
	return append(estate.Check(e), findings.ShareFaults(verdict.New(e))...)
}

// thing draws one of the things of e.
func thing(t *rapid.T, e *estate.Estate) estate.Ref {
	var all []estate.Ref
	for _, kind := range document.Kinds() {
		list := document.Things(e, kind)
		for i := range list.Len() {
			all = append(all, estate.Ref{Kind: kind, Name: document.NameOf(list.Index(i))})
		}
	}
	kind := rapid.SampledFrom(slices.Compact(kindsOf(all))).Draw(t, "kind")
	all = slices.DeleteFunc(all, func(r estate.Ref) bool { return r.Kind != kind })
	return rapid.SampledFrom(all).Draw(t, "thing")
}

func kindsOf(refs []estate.Ref) []estate.Kind {
	var out []estate.Kind
	for _, r := range refs {
		out = append(out, r.Kind)
	}
	return out
}

func written(t require.TestingT, e *estate.Estate) string {
	text, err := document.Write(e)
	require.NoError(t, err)
	return string(text)
}

func apply(t require.TestingT, e *estate.Estate, operations ...edit.Operation) *estate.Estate {
	r, err := edit.Apply(e, &edit.Edit{Operations: operations}, nil)
	require.NoError(t, err)
	return r.Estate
}

// flow draws a flow between two addresses of e.
func flow(t *rapid.T, e *estate.Estate) oracle.Flow {
	ends := draw.Ends(e)
	port := rapid.SampledFrom(draw.Ports()).Draw(t, "service")
	f := oracle.Flow{
		Segment: "internet", Source: rapid.SampledFrom(ends).Draw(t, "source"), Destination: rapid.SampledFrom(ends).Draw(t, "destination"),
		Protocol: port.Protocol, SourcePort: port.Source, Port: port.Dest,
	}
	if at := rapid.IntRange(0, len(e.Segments)).Draw(t, "segment"); at < len(e.Segments) {
		f.Segment = e.Segments[at].Name
	}
	return f
}

// TestRenamingChangesNoOutcome renames a thing of a drawn estate, to a name of the same rank,
// for ties go by names: flows have the verdicts that they had, nothing refers to the old name,
// and renaming it back gives the same document.
func TestRenamingChangesNoOutcome(t *testing.T) {
	drawn := slices.DeleteFunc(document.Kinds(), func(k estate.Kind) bool { return k == estate.KindExpectation }) // of which none are drawn
	meet.Check(t, meet.Often(1, drawn...), func(t *rapid.T, met meet.Met) {
		e := draw.Faultless(t, faults)
		ref := thing(t, e)
		before, name := written(t, e), ref.Name+"-"
		next := apply(t, e, edit.Operation{Op: edit.Rename, Kind: ref.Kind, Name: ref.Name, To: name, Base: edit.BaseOf(e, ref)})
		met[string(ref.Kind)]++
		assert.Empty(t, faults(next))
		assert.Empty(t, document.Referrers(next, ref))
		for range 8 {
			f := flow(t, e)
			renamed := f
			if ref.Kind == estate.KindSegment && f.Segment == ref.Name {
				renamed.Segment = name
			}
			was, is := oracle.Judge(e, f), oracle.Judge(next, renamed)
			assert.Equal(t, was.Outcome+" "+was.Reason, is.Outcome+" "+is.Reason, "%v", f)
		}
		assert.Equal(t, before, written(t, e), "the estate itself stays as it was")
		again := apply(t, next, edit.Operation{Op: edit.Rename, Kind: ref.Kind, Name: name, To: ref.Name})
		assert.Equal(t, before, written(t, again))
	})
}

// TestDeletingTakesAlongWhatRefers deletes a thing of a drawn estate. Where others refer to it,
// that is refused with all of them; the edit that comes with the refusal leaves no name that
// means nothing, makes nothing wider, and touches nothing else.
func TestDeletingTakesAlongWhatRefers(t *testing.T) {
	meet.Check(t, meet.Often(1, "free", "in use", "changed", "gone"), func(t *rapid.T, met meet.Met) {
		e := draw.Faultless(t, faults)
		ref := thing(t, e)
		by := document.Referrers(e, ref)
		r, err := edit.Apply(e, &edit.Edit{Operations: []edit.Operation{edit.DeleteOf(e, ref)}}, nil)
		if len(by) == 0 {
			met["free"]++
			require.NoError(t, err)
			assert.Equal(t, edit.Absent, edit.BaseOf(r.Estate, ref))
			return
		}
		met["in use"]++
		var used *edit.InUse
		require.ErrorAs(t, err, &used)
		assert.Equal(t, by, used.By)
		met.If(len(used.Along.Changed) > 0, "changed")
		met.If(len(used.Along.Gone) > 0, "gone")
		next := apply(t, e, used.Along.Edit.Operations...)
		assert.Empty(t, estate.Missing(next))
		touched := append(slices.Clone(used.Along.Changed), append(used.Along.Gone, ref)...)
		for _, c := range document.Changes(e, next, nil) {
			if !c.Moved() {
				assert.Contains(t, touched, estate.Ref{Kind: document.KindOf(c.List), Name: c.Key})
			}
		}
		for i := range next.Policies {
			p := &next.Policies[i]
			assert.True(t, p.From.Any || len(p.From.Groups) > 0, p.Name)
			assert.NotEmpty(t, p.Rules)
		}
		for i := range next.Pools {
			at := slices.IndexFunc(e.Pools, func(o estate.Pool) bool { return o.Name == next.Pools[i].Name })
			assert.Equal(t, len(e.Pools[at].Segments) == 0, len(next.Pools[i].Segments) == 0, "no list turns into all")
		}
		for _, m := range next.MappingRules() {
			assert.Equal(t, m.Key == "*", m.Account != "", "no rule for one account turns into one for all")
		}
	})
}

// TestManyOperationsAreAsOneAfterTheOther deletes drawn things of an estate in one edit, most of
// them in an order in which they can go, and puts some back: what comes of it, and what is
// refused at which operation, is as if each were an edit of its own.
func TestManyOperationsAreAsOneAfterTheOther(t *testing.T) {
	meet.Check(t, meet.Often(1, "made", "in use"), func(t *rapid.T, met meet.Met) {
		e := draw.Faultless(t, faults)
		rest := *e
		for _, kind := range []estate.Kind{estate.KindPolicy, estate.KindExpectation, estate.KindWorkload, estate.KindGroup} {
			list := document.Things(&rest, kind)
			list.Set(list.Slice(0, rapid.IntRange(0, list.Len()).Draw(t, "left")))
		}
		operations := edit.Between(e, &rest)
		for range rapid.IntRange(0, 2).Draw(t, "moved up") { // before what refers to it, perhaps
			if n := len(operations) - 1; n > 0 {
				i := rapid.IntRange(0, n).Draw(t, "which")
				o := operations[i]
				operations = slices.Insert(slices.Delete(operations, i, i+1), rapid.IntRange(0, n).Draw(t, "to"), o)
			}
		}
		operations = append(operations, edit.Between(&rest, e)...)
		if len(operations) == 0 {
			return
		}
		together, err := edit.Apply(e, &edit.Edit{Operations: operations}, nil)
		next, at := e, 0
		for ; at < len(operations); at++ {
			r, refused := edit.Apply(next, &edit.Edit{Operations: operations[at : at+1]}, nil)
			var used *edit.InUse
			if errors.As(refused, &used) {
				met["in use"]++
				used.At = at
			}
			if refused != nil {
				assert.Equal(t, refused, err)
				return
			}
			next = r.Estate
		}
		met["made"]++
		require.NoError(t, err)
		assert.Equal(t, written(t, next), written(t, together.Estate))
		for ref, by := range document.AllReferrers(e) {
			assert.Equal(t, document.Referrers(e, ref), by)
		}
	})
}

var little = &estate.Estate{
	Version: 1, Name: "little",
	Hubs:     []estate.Hub{{Name: "fen"}, {Name: "tor"}},
	Segments: []estate.Segment{{Name: "office", Default: estate.Deny, Approval: estate.ApproveNone}},
	Groups:   []estate.Group{{Name: "crews", Match: "role=crew"}, {Name: "night", Match: "shift=night", Within: "crews"}},
	Pools:    []estate.Pool{{Name: "watch", OnFailure: "closed", Firewalls: []estate.Firewall{{Name: "watch-1", Hub: "fen", State: "healthy"}}}},
}

// TestBadOperationsSayWhatIsWrong holds each refusal to its place and its fix.
func TestBadOperationsSayWhatIsWrong(t *testing.T) {
	for text, want := range map[string]string{
		`operations: [{op: put, kind: group, object: {name: crews, mtach: "a=b"}}]`:                                                                        `operation 1: object: unknown key "mtach"; did you mean match?`,
		`operations: [{op: put, kind: policy, object: {name: p, segments: [office], from: any, to: any, rules: [{services: [tcp/99999], action: deny}]}}]`: `operation 1: object.rules[0].services[0]:`,
		`operations: [{op: put, kind: group, base: absent, object: {name: crews, match: "a=b"}}]`:                                                          `operation 1: object.name: group crews already exists; choose another name, such as crews-2`,
		`operations: [{op: put, kind: group, object: {name: "Über", match: "a=b"}}]`:                                                                       `operation 1: object.name: the name "Über" does not start with a lower-case letter`,
		`operations: [{op: put, kind: gruop, object: {}}]`:                                                                                                 `operation 1: kind: "gruop" is not a kind of object; use one of account, mapping, hub,`,
		`operations: [{op: rename, kind: group, name: crew, to: crew2}]`:                                                                                   `operation 1: name: unknown group "crew"; did you mean crews?`,
		`operations: [{op: rename, kind: group, name: crews, to: night}]`:                                                                                  `operation 1: to: group night already exists; choose another name, such as night-2`,
		`operations: [{op: rename, kind: group, name: crews, to: all}]`:                                                                                    `operation 1: to: "all" is a reserved word and cannot be a name; choose another`,
		`operations: [{op: delete, kind: group, name: night}, {op: delete, kind: group, name: night}]`:                                                     `operation 2: name: unknown group "night"`,
		`operations: [{op: delete, kind: group, name: crews}]`:                                                                                             `group crews is in use by group night`,
		`operations: [{op: delete, kind: group, name: crews, base: 0123456789}]`:                                                                           `group crews was changed by somebody else in the meantime`,
		`operations: [{op: put, kind: group, base: 0123456789, object: {name: new, match: "a=b"}}]`:                                                        `group new was removed by somebody else in the meantime`,
		`operations: []`: `there are no operations`,
	} {
		e, err := edit.Read([]byte(text))
		require.NoError(t, err, text)
		_, err = edit.Apply(little, e, nil)
		assert.ErrorContains(t, err, want, text)
	}
	_, err := edit.Read([]byte("operations: [{op: move, kind: group}]"))
	assert.ErrorContains(t, err, `"move" is no op; write put or rename or delete`)
}

// TestAPutKeepsWhatOthersChange edits a pool while a health check fails one of its firewalls,
// and an attachment whose router announces another prefix meanwhile.
func TestAPutKeepsWhatOthersChange(t *testing.T) {
	seen := *little
	now := *little
	now.Pools = []estate.Pool{little.Pools[0]}
	now.Pools[0].Firewalls = []estate.Firewall{{Name: "watch-1", Hub: "fen", State: "failed"}}
	ref := estate.Ref{Kind: estate.KindPool, Name: "watch"}
	assert.Equal(t, edit.BaseOf(&seen, ref), edit.BaseOf(&now, ref), "a state is nobody's edit")
	body := []byte(`{"name": "watch", "onFailure": "open", "firewalls": [{"name": "watch-1", "hub": "fen"}, {"name": "watch-2", "hub": "tor"}]}`)
	r, err := edit.Apply(&now, &edit.Edit{Operations: []edit.Operation{edit.PutOf(&seen, ref, body)}}, edit.In(&seen))
	require.NoError(t, err)
	pool := r.Estate.Pools[0]
	assert.Equal(t, "open", pool.OnFailure)
	assert.Equal(t, "failed", pool.Firewalls[0].State)
	assert.Equal(t, "healthy", pool.Firewalls[1].State)
	body = []byte(`{"name": "watch", "firewalls": [{"name": "watch-1", "hub": "fen", "state": "draining"}]}`)
	r, err = edit.Apply(&now, &edit.Edit{Operations: []edit.Operation{edit.PutOf(&seen, ref, body)}}, edit.In(&seen))
	require.NoError(t, err)
	assert.Equal(t, "draining", r.Estate.Pools[0].Firewalls[0].State, "what a person changes stays changed")
}
