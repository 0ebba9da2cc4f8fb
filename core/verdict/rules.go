package verdict

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"bivium/core/estate"
	"bivium/core/paths"
)

// anyone is the number that stands for the side "any"; groups have numbers
// from 0.
const anyone = -1

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

// rule is a compiled rule.
type rule struct {
	set    int // number of its set of services, among those of the judge
	terms  []estate.Term
	action estate.Action
	pool   int
}

func (r *rule) contains(s Service) bool {
	for i := range r.terms {
		if r.terms[i].Contains(s.Protocol, s.SourcePort, s.Port) {
			return true
		}
	}
	return false
}

// query is one service, or one atom of services, that rules are asked about.
type query struct {
	service   Service
	holds     []bool     // by set of services: whether it holds the atom; nil for one service
	ruleIndex *RuleIndex // that knows the atom; nil for one service
	atom      int
}

// in reports whether the rule contains what is asked about.
func (r *rule) in(q *query) bool {
	if q.holds != nil {
		return q.holds[r.set]
	}
	return r.contains(q.service)
}

// first returns the first rule that contains what is asked about, or None (M4.3).
func (q *query) first(rules []rule) int {
	for i := range rules {
		if rules[i].in(q) {
			return i
		}
	}
	return paths.None
}

// firstOf is first for the rules of a policy, share or guardrail, of which a rule index
// knows it beforehand.
func (q *query) firstOf(kind VoiceKind, which int, rules []rule) int {
	if q.ruleIndex != nil {
		return int(q.ruleIndex.first[kind][which][q.atom]) - 1
	}
	return q.first(rules)
}

// side is a compiled side: groups, or anyone.
type side []int

// policy is a compiled standard policy.
type policy struct {
	name     string
	enabled  bool   // one that is not keeps its number, and says nothing
	segments []bool // by segment
	rules    []rule
	from, to side
}

// rail is a compiled guardrail. Scopes are nil for all.
type rail struct {
	name             string
	enabled          bool
	fromSegs, toSegs []bool
	from, to         side
	rules            []rule
}

// share is a compiled share.
type share struct {
	name         string
	enabled      bool // and between two segments that are there
	owner, guest sharedPart
	both         bool
	rules        []rule
}

type sharedPart struct {
	segment int
	side    side
}

// publication is a compiled publication.
type publication struct {
	name     string
	exit     int
	segment  int
	to       side
	services rule
}

// pool is a compiled firewall pool.
type pool struct {
	name     string
	open     bool
	rulebook int // None for none
	hubs     []int
}

// book is a compiled rulebook.
type book struct {
	name  string
	rules []bookRule
}

type bookRule struct {
	from, to side
	rule
	verb string
}

// contains reports whether a side holds an endpoint with these sorted groups.
// coversAny says whether "any" covers the endpoint here.
func (s side) contains(groups []int, coversAny bool) bool {
	for _, g := range s {
		if g == anyone {
			return coversAny
		}
		if _, ok := slices.BinarySearch(groups, g); ok {
			return true
		}
	}
	return false
}

type compiler struct {
	e        *estate.Estate
	net      *paths.Net
	members  *membership
	services map[string][]estate.Term
	sets     map[string]int // by the words of a list of services
	judge    *Judge
	pools    map[string]int
	books    map[string]int
}

func (c *compiler) side(s estate.Side) side {
	if s.Any {
		return side{anyone}
	}
	var out side
	for _, name := range s.Groups {
		if g, ok := c.members.ids[name]; ok {
			out = append(out, g)
		}
	}
	return out
}

func (c *compiler) scope(s estate.Scope) []bool {
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
func (c *compiler) rule(refs []estate.ServiceRef) rule {
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
		set = len(c.judge.sets)
		c.sets[string(key)] = set
		c.judge.sets = append(c.judge.sets, terms)
	}
	return rule{set: set, terms: c.judge.sets[set], action: estate.Allow, pool: paths.None}
}

func (c *compiler) rules(rules []estate.Rule) []rule {
	out := make([]rule, len(rules))
	for i, r := range rules {
		out[i] = c.rule(r.Services)
		out[i].action = r.Action
		if p, ok := c.pools[r.Pool]; ok {
			out[i].pool = p
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

func newCompiler(j *Judge, e *estate.Estate) *compiler {
	c := &compiler{e: e, net: j.net, members: j.members, services: map[string][]estate.Term{}, sets: map[string]int{}, judge: j, pools: map[string]int{}, books: map[string]int{}}
	for _, s := range e.Services {
		c.services[s.Name] = s.Terms
	}
	return c
}

// compilerOf returns a compiler for rules that take the place of others of j.
func (j *Judge) compilerOf() *compiler {
	c := newCompiler(j, j.estate)
	c.sets = maps.Clone(j.setOf)
	for i := range j.pools {
		c.pools[j.pools[i].name] = i
	}
	j.setOf = c.sets
	return c
}

func byName[T any](things []T, name func(*T) string) []T {
	sorted := slices.Clone(things)
	slices.SortFunc(sorted, func(a, b T) int { return strings.Compare(name(&a), name(&b)) })
	return sorted
}

func (j *Judge) compileBooks(c *compiler) {
	for i, b := range byName(c.e.Rulebooks, func(b *estate.Rulebook) string { return b.Name }) {
		c.books[b.Name] = i
		to := book{name: b.Name}
		for _, r := range b.Rules {
			to.rules = append(to.rules, bookRule{c.side(r.From), c.side(r.To), c.rule(r.Services), r.Action})
		}
		j.books = append(j.books, to)
	}
}

func (j *Judge) compilePools(c *compiler) {
	for i, p := range byName(c.e.Pools, func(p *estate.Pool) string { return p.Name }) {
		c.pools[p.Name] = i
		to := pool{name: p.Name, open: p.OnFailure == "open", rulebook: paths.None}
		if b, ok := c.books[p.Rulebook]; ok {
			to.rulebook = b
		}
		to.hubs = healthyHubs(&p, c.net, Down{})
		j.pools = append(j.pools, to)
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
	for i := range j.estate.Pools {
		if j.estate.Pools[i].Name == j.pools[pool].name {
			return healthyHubs(&j.estate.Pools[i], j.net, down)
		}
	}
	return nil
}

// pair is one pair of sides of a policy (M4.3).
type pair struct{ from, to int }

func (j *Judge) compilePolicies(c *compiler) {
	for _, p := range byName(c.e.Policies, func(p *estate.Policy) string { return p.Name }) {
		if p.Guardrail() {
			j.putRail(c.rail(&p))
		} else {
			j.putPolicy(c.policy(&p))
		}
	}
	j.indexPolicies()
}

// putPolicy puts a policy at its number, which it returns.
func (j *Judge) putPolicy(p policy) int {
	n := j.numbers.of(policyNumber, p.name)
	j.policies = enter(j.policies, n, p, func(i int) policy { return policy{name: j.numbers.name(policyNumber, i)} })
	return n
}

// putRail puts a guardrail at its number, which it returns.
func (j *Judge) putRail(r rail) int {
	n := j.numbers.of(railNumber, r.name)
	j.rails = enter(j.rails, n, r, func(i int) rail { return rail{name: j.numbers.name(railNumber, i)} })
	return n
}

// rail compiles a guardrail. An allow rule in one is a fault (F7), and can make
// nothing stricter; it still ends the search for a first rule.
func (c *compiler) rail(p *estate.Policy) rail {
	return rail{p.Name, p.Enabled, c.scope(p.FromSegments), c.scope(p.ToSegments), c.side(p.From), c.side(p.To), c.rules(p.Rules)}
}

func (c *compiler) policy(p *estate.Policy) policy {
	return policy{p.Name, p.Enabled, c.scope(p.Segments), c.rules(p.Rules), c.side(p.From), c.side(p.To)}
}

// indexPolicies finds the policies of each pair of sides, and of each segment.
func (j *Judge) indexPolicies() {
	j.bySides = map[pair][]int{}
	j.policiesOf = make([][]int, len(j.net.Segments))
	for number := range j.policies {
		p := &j.policies[number]
		if !p.enabled {
			continue
		}
		for segment := range j.policiesOf {
			if p.segments == nil || p.segments[segment] {
				j.policiesOf[segment] = append(j.policiesOf[segment], number)
			}
		}
		for _, f := range p.from {
			for _, t := range p.to {
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
		if a.from != b.from {
			return a.from - b.from
		}
		return a.to - b.to
	})
}

func (j *Judge) compileShares(c *compiler) {
	j.sharesOf = make([][]int, len(c.net.Segments))
	part := func(p estate.Party) sharedPart { return sharedPart{c.net.Segment(p.Segment), c.side(p.Groups)} }
	for _, s := range byName(c.e.Shares, func(s *estate.Share) string { return s.Name }) {
		to := share{s.Name, s.Enabled, part(s.Owner), part(s.Guest), s.Direction == "both", c.rules(s.Rules)}
		to.enabled = to.enabled && to.owner.segment != paths.None && to.guest.segment != paths.None && to.owner.segment != to.guest.segment
		n := j.numbers.of(shareNumber, s.Name)
		if to.enabled {
			j.sharesOf[to.owner.segment] = append(j.sharesOf[to.owner.segment], n)
			j.sharesOf[to.guest.segment] = append(j.sharesOf[to.guest.segment], n)
		}
		j.shares = enter(j.shares, n, to, func(i int) share { return share{name: j.numbers.name(shareNumber, i)} })
	}
}

func (j *Judge) compilePublications(c *compiler) {
	for _, p := range byName(c.e.Publications, func(p *estate.Publication) string { return p.Name }) {
		exit, segment := c.net.Exit(p.Exit), c.net.Segment(p.To.Segment)
		if !p.Enabled || exit == paths.None || segment == paths.None || !c.net.Exits[exit].Up || !c.net.Exits[exit].Serves(segment) {
			continue
		}
		j.publications = append(j.publications, publication{p.Name, exit, segment, c.side(p.To.Groups), c.rule(p.Services)})
	}
}
