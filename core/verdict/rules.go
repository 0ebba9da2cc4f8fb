package verdict

import (
	"fmt"
	"maps"
	"slices"

	"bivium/core/estate"
	"bivium/core/lists"
	"bivium/core/membership"
	"bivium/core/paths"
)

// Anyone is the number that stands for the side "any"; groups have numbers
// from 0.
const Anyone = -1

// strictness orders the actions (M4.5).
func strictness(a estate.Action) int {
	switch a {
	case estate.Allow:
		return 0
	case estate.Inspect:
		return 1
	case estate.Deny:
		return 2
	}
	panic("verdict: unknown action " + string(a))
}

// Rule is a compiled rule.
type Rule struct {
	set    int // number of its set of services, among those of the judge
	Terms  []estate.Term
	Action estate.Action
	Pool   int
}

func (r *Rule) Contains(s Service) bool {
	for i := range r.Terms {
		if r.Terms[i].Contains(s.Protocol, s.SourcePort, s.Port) {
			return true
		}
	}
	return false
}

// Query is one service, or one atom of services, that rules are asked about.
type Query struct {
	Service   Service
	holds     []bool     // by set of services: whether it holds the atom; nil for one service
	ruleIndex *RuleIndex // that knows the atom; nil for one service
	atom      int
}

// in reports whether the rule contains what is asked about.
func (r *Rule) in(q *Query) bool {
	if q.holds != nil {
		return q.holds[r.set]
	}
	return r.Contains(q.Service)
}

// First returns the first rule that contains what is asked about, or None (M4.3).
func (q *Query) First(rules []Rule) int {
	for i := range rules {
		if rules[i].in(q) {
			return i
		}
	}
	return paths.None
}

// firstOf is first for the rules of a policy, share or guardrail, of which a rule index
// knows it beforehand.
func (q *Query) firstOf(kind TermKind, which int, rules []Rule) int {
	if q.ruleIndex != nil {
		return int(q.ruleIndex.First[kind][which][q.atom]) - 1
	}
	return q.First(rules)
}

// Side is a compiled side: groups, or anyone.
type Side []int

// Policy is a compiled standard policy.
type Policy struct {
	Name     string
	Enabled  bool   // one that is not keeps its number, and says nothing
	Segments []bool // by segment
	Rules    []Rule
	From, To Side
}

// Guardrail is a compiled guardrail. Scopes are nil for all.
type Guardrail struct {
	Name             string
	Enabled          bool
	FromSegs, ToSegs []bool
	From, To         Side
	Rules            []Rule
}

// Share is a compiled share.
type Share struct {
	Name         string
	Enabled      bool // and between two segments that are there
	Owner, Guest SharedPart
	Both         bool
	Rules        []Rule
}

type SharedPart struct {
	Segment int
	Side    Side
}

// Publication is a compiled publication.
type Publication struct {
	Name     string
	Exit     int
	Segment  int
	To       Side
	Services Rule
}

// Pool is a compiled firewall pool.
type Pool struct {
	Name     string
	Open     bool
	Rulebook int // None for none
	hubs     []int
}

// Book is a compiled rulebook.
type Book struct {
	Name  string
	Rules []BookRule
}

type BookRule struct {
	From, To Side
	Rule
	Verb string
}

// Contains reports whether a side holds an endpoint with these sorted groups.
// coversAny says whether "any" covers the endpoint here.
func (s Side) Contains(groups []int, coversAny bool) bool {
	for _, g := range s {
		if g == Anyone {
			return coversAny
		}
		if _, ok := slices.BinarySearch(groups, g); ok {
			return true
		}
	}
	return false
}

type Compiler struct {
	e        *estate.Estate
	net      *paths.Net
	members  *membership.Membership
	services map[string][]estate.Term
	sets     map[string]int // by the words of a list of services
	judge    *Judge
	pools    map[string]int
	books    map[string]int
}

func (c *Compiler) side(s estate.Side) Side {
	if s.Any {
		return Side{Anyone}
	}
	var out Side
	for _, name := range s.Groups {
		if g, ok := c.members.Ids[name]; ok {
			out = append(out, g)
		}
	}
	return out
}

func (c *Compiler) scope(s estate.Scope) []bool {
	if s.All || s.IsZero() {
		return nil
	}
	in := make([]bool, len(c.net.Segments))
	for _, name := range s.Names {
		if n := c.net.Segment(name); n != paths.None {
			in[n] = true
		}
	}
	return in
}

// rule compiles what a rule says of services. Those that are written alike share
// one set: there are far fewer sets than rules.
func (c *Compiler) rule(refs []estate.ServiceRef) Rule {
	var key []byte
	for i := range refs {
		r := &refs[i]
		key = append(append(key, r.Name...), 0)
		if r.Name == "" {
			key = fmt.Append(key, r.Term)
		}
	}
	set, known := c.sets[string(key)]
	if !known {
		var terms []estate.Term
		for _, r := range refs {
			if r.Name == "" {
				terms = append(terms, r.Term)
				continue
			}
			terms = append(terms, c.services[r.Name]...)
		}
		set = len(c.judge.Sets)
		c.sets[string(key)] = set
		c.judge.Sets = append(c.judge.Sets, terms)
	}
	return Rule{set: set, Terms: c.judge.Sets[set], Action: estate.Allow, Pool: paths.None}
}

func (c *Compiler) Rules(rules []estate.Rule) []Rule {
	out := make([]Rule, len(rules))
	for i, r := range rules {
		if r.Lapsed {
			r.Services = nil // it matches nothing
		}
		out[i] = c.rule(r.Services)
		out[i].Action = r.Action
		if p, ok := c.pools[r.Pool]; ok {
			out[i].Pool = p
		}
	}
	return out
}

func (j *Judge) compileRules(e *estate.Estate) {
	c := newCompiler(j, e)
	for _, s := range e.Services {
		c.rule([]estate.ServiceRef{{Name: s.Name}}) // so that a rule may take it up without new sets
	}
	j.compileBooks(c)
	j.compilePools(c)
	j.compilePolicies(c)
	j.compileShares(c)
	j.compilePublications(c)
	for i := range e.Expectations {
		c.rule(e.Expectations[i].Services) // what they ask about is to be whole atoms
	}
	j.setOf = c.sets
}

func newCompiler(j *Judge, e *estate.Estate) *Compiler {
	c := &Compiler{e: e, net: j.Net, members: j.Members, services: map[string][]estate.Term{}, sets: map[string]int{}, judge: j, pools: map[string]int{}, books: map[string]int{}}
	for _, s := range e.Services {
		c.services[s.Name] = s.Terms
	}
	return c
}

// CompilerOf returns a compiler for rules that take the place of others of j.
func (j *Judge) CompilerOf() *Compiler {
	c := newCompiler(j, j.Estate)
	c.sets = maps.Clone(j.setOf)
	for i := range j.Pools {
		c.pools[j.Pools[i].Name] = i
	}
	j.setOf = c.sets
	return c
}

func (j *Judge) compileBooks(c *Compiler) {
	for i, b := range lists.ByName(c.e.Rulebooks, func(b *estate.Rulebook) string { return b.Name }) {
		c.books[b.Name] = i
		to := Book{Name: b.Name}
		for _, r := range b.Rules {
			to.Rules = append(to.Rules, BookRule{c.side(r.From), c.side(r.To), c.rule(r.Services), r.Action})
		}
		j.Books = append(j.Books, to)
	}
}

func (j *Judge) compilePools(c *Compiler) {
	for i, p := range lists.ByName(c.e.Pools, func(p *estate.Pool) string { return p.Name }) {
		c.pools[p.Name] = i
		to := Pool{Name: p.Name, Open: p.OnFailure == "open", Rulebook: paths.None}
		if b, ok := c.books[p.Rulebook]; ok {
			to.Rulebook = b
		}
		to.hubs = healthyHubs(&p, c.net, Down{})
		j.Pools = append(j.Pools, to)
	}
}

// Down is one thing that fails, beside those that have failed.
type Down struct {
	Hub, Firewall string
	Pool          string // of the firewall
}

// healthyHubs returns the hubs at which a pool has a healthy firewall, sorted.
func healthyHubs(p *estate.Pool, net *paths.Net, down Down) []int {
	var hubs []int
	for _, f := range p.Firewalls {
		hub := net.Hub(f.Hub)
		failed := f.State != "healthy" || f.Hub == down.Hub || f.Name == down.Firewall && p.Name == down.Pool
		if !failed && hub != paths.None && !slices.Contains(hubs, hub) {
			hubs = append(hubs, hub)
		}
	}
	slices.Sort(hubs)
	return hubs
}

func (j *Judge) healthyHubs(pool int, down Down) []int {
	for i := range j.Estate.Pools {
		if j.Estate.Pools[i].Name == j.Pools[pool].Name {
			return healthyHubs(&j.Estate.Pools[i], j.Net, down)
		}
	}
	return nil
}

// pair is one pair of sides of a policy (M4.3).
type pair struct{ From, To int }

func (j *Judge) compilePolicies(c *Compiler) {
	for _, p := range lists.ByName(c.e.Policies, func(p *estate.Policy) string { return p.Name }) {
		if p.Guardrail() {
			j.PutRail(c.Rail(&p))
		} else {
			j.PutPolicy(c.Policy(&p))
		}
	}
	j.IndexPolicies()
}

// PutPolicy puts a policy at its number, which it returns.
func (j *Judge) PutPolicy(p Policy) int {
	n := j.Numbers.Number(lists.PolicyNumber, p.Name)
	j.Policies = lists.Put(j.Policies, n, p, func(i int) Policy { return Policy{Name: j.Numbers.Name(lists.PolicyNumber, i)} })
	return n
}

// PutRail puts a guardrail at its number, which it returns.
func (j *Judge) PutRail(r Guardrail) int {
	n := j.Numbers.Number(lists.RailNumber, r.Name)
	j.Guardrails = lists.Put(j.Guardrails, n, r, func(i int) Guardrail { return Guardrail{Name: j.Numbers.Name(lists.RailNumber, i)} })
	return n
}

// Rail compiles a guardrail. An allow rule in one is a fault (F7), and can make
// nothing stricter; it still ends the search for a first rule.
func (c *Compiler) Rail(p *estate.Policy) Guardrail {
	return Guardrail{p.Name, p.Active(), c.scope(p.FromSegments), c.scope(p.ToSegments), c.side(p.From), c.side(p.To), c.Rules(p.Rules)}
}

func (c *Compiler) Policy(p *estate.Policy) Policy {
	return Policy{p.Name, p.Active(), c.scope(p.Segments), c.Rules(p.Rules), c.side(p.From), c.side(p.To)}
}

// IndexPolicies finds the policies of each pair of sides, and of each segment.
func (j *Judge) IndexPolicies() {
	j.bySides = map[pair][]int{}
	j.policiesOf = make([][]int, len(j.Net.Segments))
	for number := range j.Policies {
		p := &j.Policies[number]
		if !p.Enabled {
			continue
		}
		for segment := range j.policiesOf {
			if p.Segments == nil || p.Segments[segment] {
				j.policiesOf[segment] = append(j.policiesOf[segment], number)
			}
		}
		for _, f := range p.From {
			for _, t := range p.To {
				key := pair{f, t}
				if list := j.bySides[key]; len(list) == 0 || list[len(list)-1] != number {
					j.bySides[key] = append(list, number)
				}
			}
		}
	}
	j.sortPairs()
}

// sortPairs keeps the pairs of sides in one order, so that who could speak is
// listed in one order.
func (j *Judge) sortPairs() {
	j.pairs = nil
	for p := range j.bySides {
		j.pairs = append(j.pairs, p)
	}
	slices.SortFunc(j.pairs, func(a, b pair) int {
		if a.From != b.From {
			return a.From - b.From
		}
		return a.To - b.To
	})
}

func (j *Judge) compileShares(c *Compiler) {
	j.SharesOf = make([][]int, len(c.net.Segments))
	part := func(p estate.Party) SharedPart { return SharedPart{c.net.Segment(p.Segment), c.side(p.Groups)} }
	for _, s := range lists.ByName(c.e.Shares, func(s *estate.Share) string { return s.Name }) {
		to := Share{s.Name, s.Active(), part(s.Owner), part(s.Guest), s.Direction == "both", c.Rules(s.Rules)}
		to.Enabled = to.Enabled && to.Owner.Segment != paths.None && to.Guest.Segment != paths.None && to.Owner.Segment != to.Guest.Segment
		n := j.Numbers.Number(lists.ShareNumber, s.Name)
		if to.Enabled {
			j.SharesOf[to.Owner.Segment] = append(j.SharesOf[to.Owner.Segment], n)
			j.SharesOf[to.Guest.Segment] = append(j.SharesOf[to.Guest.Segment], n)
		}
		j.Shares = lists.Put(j.Shares, n, to, func(i int) Share { return Share{Name: j.Numbers.Name(lists.ShareNumber, i)} })
	}
}

func (j *Judge) compilePublications(c *Compiler) {
	for _, p := range lists.ByName(c.e.Publications, func(p *estate.Publication) string { return p.Name }) {
		exit, segment := c.net.Exit(p.Exit), c.net.Segment(p.To.Segment)
		if !p.Enabled || exit == paths.None || segment == paths.None || !c.net.Exits[exit].Up || !c.net.Exits[exit].Serves(segment) {
			continue
		}
		j.Publications = append(j.Publications, Publication{p.Name, exit, segment, c.side(p.To.Groups), c.rule(p.Services)})
	}
}
