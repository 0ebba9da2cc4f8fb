package plan

import (
	"net/netip"
	"slices"

	"bivium/core/native/config"
	"bivium/core/space"
)

// list leads a list of a network or subnet from what it is to what it should be.
func (p *planner) list(key Key, was, is *Body, touches touch) {
	provider := p.providers[key.Name]
	had, has := rulesIn(was), rulesIn(is)
	c := rulesOf(provider, p.digests, p.meeting).between(had, has)
	if is == nil { // nothing hangs there any more: an empty list does the same
		is = &Body{List: &config.List{On: key.On}}
	}
	p.twice(key, was, is, touches, c.tighten, c.open, c.narrow, func() *Body {
		return &Body{List: &config.List{On: key.On, Rules: renumbered(c.both, provider)}}
	})
}

func rulesIn(b *Body) []config.Rule {
	if b == nil {
		return nil
	}
	return b.List.Rules
}

// twice adds the writes of a document that has a list: to what passes both, and to what it
// should be. Where the lists say the same, or only what goes with them differs, one is enough.
func (p *planner) twice(key Key, was, is *Body, touches touch, tighten, open, narrow bool, both func() *Body) {
	switch {
	case tighten && open:
		between := both()
		p.add(Tighten, key, was, between, touches).Narrow = narrow
		p.add(Open, key, between, is, touches)
	case tighten:
		p.add(Tighten, key, was, is, touches)
	default:
		p.add(Open, key, was, is, touches)
	}
}

// segment leads a match list, with the imports of its segment.
func (p *planner) segment(key Key, was, is *Body, touches touch) {
	had, has := &config.Segment{Name: key.Name}, &config.Segment{Name: key.Name}
	if was != nil {
		had = was.Segment
	}
	if is != nil {
		has = is.Segment
	}
	c := hubRules(p.digests, p.meeting).between(had.Rules, has.Rules)
	with := func(imports []config.Import, rules []config.HubRule) *Body {
		return &Body{Segment: &config.Segment{Name: key.Name, Imports: imports, Rules: rules}}
	}
	rules, now := had.Rules, was // as they are while things move
	if c.tighten {
		if rules = has.Rules; c.open {
			rules = c.both
		}
		next := with(had.Imports, rules)
		p.add(Tighten, key, now, next, touches).Narrow = c.narrow
		now = next
	}
	if !slices.Equal(had.Imports, has.Imports) {
		next := with(has.Imports, rules)
		p.add(Move, key, now, next, touches)
		now = next
	}
	if c.open || now == nil {
		p.add(Open, key, now, with(has.Imports, has.Rules), touches)
	}
}

// pool leads the firewalls of a pool, and their rulebook.
func (p *planner) pool(key Key, was, is *Body, touches touch) {
	had, has := poolIn(key, was), poolIn(key, is)
	c := bookRules(p.digests, p.meeting).between(bookOf(had.Pool), bookOf(has.Pool))
	with := func(book *config.Pool, of *Body) *Body { return &Body{Pool: book, Firewalls: of.Firewalls} }
	book, now := had.Pool, was
	if c.tighten {
		if book = has.Pool; c.open {
			book = &config.Pool{Name: key.Name, Rulebook: between, Rules: c.both}
		}
		next := with(book, had)
		p.add(Tighten, key, now, next, touches).Narrow = c.narrow
		now = next
	}
	if !c.tighten && !c.open { // rulebooks that pass the same, perhaps under another name
		book = has.Pool
	}
	if !p.digests.same(now, with(book, has)) || was == nil {
		next := with(book, has)
		p.add(Move, key, now, next, touches)
		now = next
	}
	if c.open {
		p.add(Open, key, now, with(has.Pool, has), touches)
	}
}

// between is the name of a rulebook that passes what two pass.
const between = "between"

func poolIn(key Key, b *Body) *Body {
	if b == nil {
		return &Body{Pool: &config.Pool{Name: key.Name, Rulebook: between}}
	}
	return b
}

// bookOf returns the rules of a pool; of one without a rulebook, one that passes everything.
func bookOf(p *config.Pool) []config.BookRule {
	if p.Rulebook == "" {
		return []config.BookRule{{Any: [2]bool{true, true}, Verb: "pass"}}
	}
	return p.Rules
}

// entries leads a list that workloads bear.
func (p *planner) entries(key Key, was, is *Body, touches touch) {
	switch {
	case was == nil:
		p.add(Prepare, key, nil, is, nil)
		return
	case is == nil:
		p.add(CleanUp, key, was, nil, touches)
		return
	}
	had, has := was.Entries.Entries, is.Entries.Entries
	loses, gains := !covers(has, had), !covers(had, has)
	p.twice(key, was, is, touches, loses, gains, false, func() *Body {
		return &Body{Entries: &config.EntryList{Name: key.On, Entries: commonEntries(had, has)}}
	})
}

// covers reports whether each of some entries lies in one of others.
func covers(others, entries []config.Entry) bool {
	return !slices.ContainsFunc(entries, func(e config.Entry) bool {
		return !slices.ContainsFunc(others, func(o config.Entry) bool { return within(&e, &o) })
	})
}

func within(e, o *config.Entry) bool {
	if e.Out != o.Out || e.Peers != o.Peers || o.Peers == "" && !(o.Peer.Bits() <= e.Peer.Bits() && o.Peer.Contains(e.Peer.Addr())) {
		return false
	}
	services := []space.Box{e.Service}
	return space.Of(services).Intersect(space.Of([]space.Box{o.Service})).Equal(space.Of(services))
}

// commonEntries returns entries that pass what both of two lists pass, as far as there is room.
func commonEntries(a, b []config.Entry) []config.Entry {
	var out []config.Entry
	for i := range a {
		for k := range b {
			x, y := &a[i], &b[k]
			if x.Out != y.Out || x.Peers != y.Peers {
				continue
			}
			e := *x
			if x.Peers == "" {
				p, ok := common([]netip.Prefix{x.Peer}, []netip.Prefix{y.Peer})
				if !ok {
					continue
				}
				e.Peer = p[0]
			}
			for _, s := range space.Of([]space.Box{x.Service}).Intersect(space.Of([]space.Box{y.Service})).Boxes() {
				e.Service = s
				if !covers(out, []config.Entry{e}) {
					out = append(out, e)
				}
			}
		}
	}
	return out[:min(len(out), config.CirraEntries)]
}

// binding leads the lists that a workload bears. What it bears in between is lists that pass no
// more than before, and lists of before that pass no more than after.
func (p *planner) binding(key Key, was, is *Body, touches touch) {
	if is == nil { // the workload is gone, or bears what all do
		p.add(CleanUp, key, was, nil, touches)
		return
	}
	had, has := p.borne(p.before.Config, key.Account, was.bearing()), p.borne(p.after.Config, key.Account, is.Bears)
	if was == nil {
		had = p.borne(p.before.Config, key.Account, p.defaultOf(key.Account))
	}
	loses, gains := !covers(has, had), !covers(had, has)
	now := was
	if loses && gains {
		next := &Body{Bears: []string{}}
		for _, name := range is.Bears {
			if covers(had, p.borne(p.after.Config, key.Account, []string{name})) {
				next.Bears = append(next.Bears, name)
			}
		}
		for _, name := range was.bearing() {
			if !slices.Contains(next.Bears, name) && len(next.Bears) < config.CirraLists && covers(has, p.borne(p.before.Config, key.Account, []string{name})) {
				next.Bears = append(next.Bears, name)
			}
		}
		p.add(Tighten, key, now, next, touches)
		now = next
	}
	if loses && !gains {
		p.add(Tighten, key, now, is, touches)
		return
	}
	p.add(Open, key, now, is, touches)
}

func (p *planner) defaultOf(account string) []string {
	for _, a := range p.before.Config.Accounts {
		if a.Name == account {
			return a.Default
		}
	}
	return nil
}

// borne returns the entries of some lists of an account.
func (p *planner) borne(c *config.Config, account string, lists []string) []config.Entry {
	var out []config.Entry
	for i := range c.Accounts {
		if c.Accounts[i].Name != account {
			continue
		}
		for _, l := range c.Accounts[i].Lists {
			if slices.Contains(lists, l.Name) {
				out = append(out, l.Entries...)
			}
		}
	}
	return out
}
