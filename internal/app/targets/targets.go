// Package targets tells what hubs, pools, clouds and premises have to hold at a revision, what
// each rule is for, and how that is proven. What it works out of the last few revisions it keeps.
package targets

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"bivium/core/estate"
	"bivium/core/limits"
	"bivium/core/native"
	"bivium/core/native/config"
	"bivium/core/native/proof"
	"bivium/core/native/reader"
	"bivium/internal/app/view"
	"bivium/internal/wording"
)

// Overview is all targets, with what does not fit.
type Overview struct {
	Revision int64     `json:"revision"`
	Targets  []Target  `json:"targets"`
	Refused  []Refused `json:"refused"`
}

// Target is one target, with how much it holds.
type Target struct {
	Kind     string `json:"kind"` // segment, hub, pool or network
	Name     string `json:"name"`
	Provider string `json:"provider"`
	Account  string `json:"account"`
	Observed bool   `json:"observed"` // the account is read and never written
	Lists    int    `json:"lists"`
	Rules    int    `json:"rules"`
	Bound    int    `json:"bound"` // how few rules there could be, as far as that is known
	Refused  bool   `json:"refused"`
}

// Refused is something that does not fit.
type Refused struct {
	Network string `json:"network"`
	On      string `json:"on"`
	Code    string `json:"code"`
	Words   string `json:"words"`
	Count   int    `json:"count"`
	Limit   int    `json:"limit"`
}

// Held is what one target holds.
type Held struct {
	Target
	Revision int64     `json:"revision"`
	Listings []Listing `json:"listings"`
	Sets     []Set     `json:"sets"` // those that lines name, by name
}

// Listing is one list of a target.
type Listing struct {
	On    string   `json:"on"`
	Bears []string `json:"bears"`
	Limit int      `json:"limit"`
	Bound int      `json:"bound"`
	Lines []Line   `json:"lines"`
}

// Line is one rule, entry or route.
type Line struct {
	Place    int          `json:"place"`
	Way      string       `json:"way"`
	Verb     string       `json:"verb"`
	From     []End        `json:"from"` // none for everybody
	To       []End        `json:"to"`
	Services []string     `json:"services"`
	Through  []string     `json:"through"`
	For      []config.Ref `json:"for"`
}

// End is some addresses: of a set, or written out.
type End struct {
	Segment  string   `json:"segment"`
	Exit     string   `json:"exit"`
	Set      string   `json:"set"`
	Prefixes []string `json:"prefixes"`
}

// Set is addresses under a name.
type Set struct {
	Name     string   `json:"name"`
	Prefixes []string `json:"prefixes"`
}

// Uses is the lines of all targets that are for one rule object.
type Uses struct {
	Revision int64 `json:"revision"`
	Uses     []Use `json:"uses"`
	Sets     []Set `json:"sets"`
}

// Use is such lines of one list.
type Use struct {
	Target Target `json:"target"`
	On     string `json:"on"`
	Lines  []Line `json:"lines"`
}

// Proof is how what targets have to hold compares with what is meant.
type Proof struct {
	Revision    int64        `json:"revision"`
	Proven      bool         `json:"proven"`
	Incomplete  bool         `json:"incomplete"`
	Differences []Difference `json:"differences"`
	Stricter    []Difference `json:"stricter"`
	Unheld      []Unheld     `json:"unheld"`
}

// Difference is flows that fare otherwise than is meant, with one of them.
type Difference struct {
	Change       string       `json:"change"`
	From         string       `json:"from"`
	To           string       `json:"to"`
	Sources      []string     `json:"sources"`
	Destinations []string     `json:"destinations"`
	Services     []string     `json:"services"`
	Meant        string       `json:"meant"`
	Found        string       `json:"found"`
	Why          string       `json:"why"`
	Witness      view.Witness `json:"witness"`
}

// Unheld is addresses of a network at which nothing passes until a machine holds them.
type Unheld struct {
	Network  string   `json:"network"`
	Prefixes []string `json:"prefixes"`
	Why      string   `json:"why"`
}

// Book is what was worked out of one revision.
type Book struct {
	now         *view.Snapshot
	once        sync.Once
	translation *native.Translation
	targets     []Target
	proving     sync.Once
	proof       *proof.Proof
	done        atomic.Pointer[native.Translation]
	proven      atomic.Pointer[proof.Proof]

	// What was worked out of the revision before, of which what an edit does not touch is kept.
	last      *native.Translation
	lastProof *proof.Proof
}

// Books keeps those of the last few revisions. The zero Books is empty. It is safe for
// concurrent use.
type Books struct {
	mu   sync.Mutex
	last []*Book
}

// kept is of how many revisions something is kept.
const kept = 3

// Of returns the book of a revision. Cost: nothing; it is worked out when it is asked. An estate
// that is too large is refused.
func (b *Books) Of(now *view.Snapshot) (*Book, error) {
	if n := len(now.Matrix.Classes); n > limits.NativeClasses {
		return nil, &view.Problem{
			Message: fmt.Sprintf("this estate has %d classes of endpoints; native rules are translated here for up to %d", n, limits.NativeClasses),
			Fix:     "run bivium native on the exported document",
		}
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if i := slices.IndexFunc(b.last, func(k *Book) bool { return k.now == now }); i >= 0 {
		return b.last[i], nil
	}
	k := &Book{now: now}
	for _, before := range b.last {
		if t := before.done.Load(); t != nil {
			k.last = t
		}
		if p := before.proven.Load(); p != nil {
			k.lastProof = p
		}
	}
	b.last = append(b.last, k)
	if len(b.last) > kept {
		b.last = slices.Clone(b.last[1:])
	}
	return k, nil
}

func (b *Book) translated() *native.Translation {
	b.once.Do(func() {
		b.translation, b.last = native.Retranslate(b.last, b.now.Matrix), nil
		b.done.Store(b.translation)
		b.each(func(t *config.Target) { b.targets = append(b.targets, b.target(t)) })
	})
	return b.translation
}

// each calls f for what each target holds.
func (b *Book) each(f func(*config.Target)) {
	b.translation.Config.Each(b.now.Estate.Workloads, func(t config.Target) { f(&t) })
}

// Config returns what all targets have to hold, and what of it does not fit.
func (b *Book) Config() (*config.Config, []native.Refusal) {
	t := b.translated()
	return t.Config, t.Refused
}

// Overview returns all targets.
func (b *Book) Overview() *Overview {
	t := b.translated()
	out := &Overview{Revision: b.now.Revision, Targets: slices.Concat([]Target{}, b.targets), Refused: []Refused{}}
	for i := range t.Refused {
		r := &t.Refused[i]
		out.Refused = append(out.Refused, Refused{r.Network, r.On, string(r.Code), wording.Refusal(r), r.Count, r.Limit})
	}
	return out
}

func (b *Book) target(t *config.Target) Target {
	rules, bound := t.Rules()
	refused := t.Kind == "network" && slices.ContainsFunc(b.translation.Refused, func(r native.Refusal) bool { return r.Network == t.Name })
	return Target{t.Kind, t.Name, t.Provider, t.Account, b.now.Estate.Observes(t.Account), len(t.Listings), rules, bound, refused}
}

// Held returns what one target holds.
func (b *Book) Held(kind, name string) (*Held, error) {
	t, ok := b.translated().Config.Target(kind, name, b.now.Estate.Workloads)
	if !ok {
		return nil, &view.Problem{At: "name", Message: fmt.Sprintf("there is no target %s %q", kind, name), Fix: "choose one of the list"}
	}
	out := &Held{Target: b.target(&t), Revision: b.now.Revision, Listings: []Listing{}}
	sets := map[string]*config.Set{}
	for k := range t.Listings {
		l := &t.Listings[k]
		x := Listing{l.On, orNone(l.Bears), l.Limit, l.Bound, []Line{}}
		for n := range l.Len() {
			x.Lines = append(x.Lines, line(l.Line(n), sets))
		}
		out.Listings = append(out.Listings, x)
	}
	out.Sets = setsOf(sets)
	return out, nil
}

// For returns the lines of all targets that are for a rule object.
func (b *Book) For(kind, name string) (*Uses, error) {
	b.translated()
	out := &Uses{Revision: b.now.Revision, Uses: []Use{}}
	sets := map[string]*config.Set{}
	known := map[*config.Ref]bool{} // many lines share what they are for
	b.each(func(t *config.Target) {
		for k := range t.Listings {
			x := &t.Listings[k]
			u := Use{Target: b.target(t), On: x.On}
			for n := range x.Len() {
				refs := x.For(n)
				if len(refs) == 0 {
					continue
				}
				is, ok := known[&refs[0]]
				if !ok {
					is = slices.ContainsFunc(refs, func(r config.Ref) bool { return r.Kind == estate.Kind(kind) && r.Name == name })
					known[&refs[0]] = is
				}
				if is {
					u.Lines = append(u.Lines, line(x.Line(n), sets))
				}
			}
			if len(u.Lines) > 0 {
				out.Uses = append(out.Uses, u)
			}
		}
	})
	out.Sets = setsOf(sets)
	return out, nil
}

// inline is how many prefixes of a set stand in a line itself.
const inline = 6

func line(l config.Line, sets map[string]*config.Set) Line {
	out := Line{l.Place, l.Way, l.Verb, []End{}, []End{}, orNone(l.Services), []string{}, l.For}
	if out.For == nil {
		out.For = []config.Ref{}
	}
	for _, s := range l.Through {
		out.Through = append(out.Through, s.Pool)
	}
	out.From, out.To = endsOf(l.From, sets), endsOf(l.To, sets)
	return out
}

func endsOf(ends []config.End, sets map[string]*config.Set) []End {
	out := []End{}
	for _, e := range ends {
		x := End{Segment: e.Segment, Exit: e.Exit, Prefixes: []string{}}
		switch {
		case e.Set == nil:
		case e.Set.Name != "" && len(e.Set.Prefixes) > inline:
			x.Set, sets[e.Set.Name] = e.Set.Name, e.Set
		default:
			x.Prefixes = view.Prefixes(e.Set.Prefixes)
		}
		out = append(out, x)
	}
	return out
}

func setsOf(sets map[string]*config.Set) []Set {
	out := []Set{}
	for name, s := range sets {
		out = append(out, Set{name, view.Prefixes(s.Prefixes)})
	}
	slices.SortFunc(out, func(a, b Set) int { return strings.Compare(a.Name, b.Name) })
	return out
}

func orNone(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

// Proof returns how what targets have to hold compares with what is meant. Cost: see
// proof.Prove, the first time.
func (b *Book) Proof() *Proof {
	t := b.translated()
	b.proving.Do(func() {
		b.proof, b.lastProof = proof.Reprove(b.lastProof, b.now.Matrix, t.Config, t.Touches()), nil
		b.proven.Store(b.proof)
	})
	return proofOf(b.now, b.proof)
}

func proofOf(now *view.Snapshot, p *proof.Proof) *Proof {
	out := &Proof{Revision: now.Revision, Proven: len(p.Differences) == 0 && !p.Incomplete, Incomplete: p.Incomplete, Differences: []Difference{}, Stricter: []Difference{}, Unheld: []Unheld{}}
	for i := range p.Differences {
		out.Differences = append(out.Differences, difference(now, &p.Differences[i]))
	}
	for i := range p.Stricter {
		out.Stricter = append(out.Stricter, difference(now, &p.Stricter[i]))
	}
	for _, u := range p.Unheld {
		out.Unheld = append(out.Unheld, Unheld{u.Network, view.Prefixes(u.Prefixes), wording.Blur(reader.NoWorkload)})
	}
	order := map[string]int{string(proof.Opened): 0, string(proof.Past): 1, string(proof.Closed): 2, string(proof.Others): 3}
	slices.SortStableFunc(out.Differences, func(a, b Difference) int { return cmp.Compare(order[a.Change], order[b.Change]) })
	return out
}

func difference(now *view.Snapshot, d *proof.Difference) Difference {
	why := ""
	if d.Blur != reader.Sharp {
		why = wording.Blur(d.Blur)
	}
	return Difference{string(d.Change), d.From, d.To, d.Sources, d.Destinations, d.Services.Words(), wording.Fate(&d.Meant), wording.Fate(&d.Found), why, now.WitnessOf(d.Witness)}
}
