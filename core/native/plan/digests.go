package plan

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash"
	"net/netip"
	"slices"
	"strings"

	"bivium/core/estate"
	"bivium/core/lists"
	"bivium/core/native/config"
	"bivium/core/space"
)

// digests makes strings of rules that are the same for rules that do the same. They are not made to
// be read. Those of sets are remembered, as many rules share a set: none may change meanwhile. Not
// safe for concurrent use.
type digests struct {
	known    map[*config.Set]string
	unions   map[string]string // by those of the sets
	prefixes map[prefixesKey]string
	lists    map[listKey][]string // by list: those of its rules; nil where none is asked for again
}

// listKey tells some rules from others: by where they are.
type listKey struct {
	first any
	n     int
}

// setsKey tells some sets from others: by where they are.
type setsKey struct {
	first **config.Set
	only  *config.Set // where there is one alone
	n     int
}

func keyOfSets(sets []*config.Set) setsKey {
	switch len(sets) {
	case 0:
		return setsKey{}
	case 1:
		return setsKey{only: sets[0], n: 1}
	}
	return setsKey{first: &sets[0], n: len(sets)}
}

// prefixesKey tells some prefixes from others: by where they are.
type prefixesKey struct {
	first *netip.Prefix
	n     int
}

func newDigests() *digests {
	return &digests{known: map[*config.Set]string{}, unions: map[string]string{}, prefixes: map[prefixesKey]string{}}
}

// keeping returns digests that also remember those of the rules of each list.
func keeping() *digests {
	d := newDigests()
	d.lists = map[listKey][]string{}
	return d
}

// Same reports whether two bodies mean the same to a target.
func Same(a, b *Body) bool { return newDigests().same(a, b) }

func (d *digests) same(a, b *Body) bool {
	if a == nil || b == nil {
		return a == b
	}
	if a.stands(b) || a.does(b) {
		return true
	}
	if a.Segment != nil && b.Segment != nil { // whose rules are compared one by one
		had, has, _ := middle(a.Segment.Rules, b.Segment.Rules, (*config.HubRule).Does)
		return slices.Equal(a.Segment.Imports, b.Segment.Imports) && slices.Equal(keysOf(d, had, d.hubRule), keysOf(d, has, d.hubRule))
	}
	return d.body(a) == d.body(b)
}

// stands reports whether two bodies are the very same rules in memory, as those of what an edit did
// not touch are.
func (b *Body) stands(as *Body) bool {
	switch {
	case b == as:
		return true
	case b.Segment != nil && as.Segment != nil:
		return lists.Same(b.Segment.Rules, as.Segment.Rules) && slices.Equal(b.Segment.Imports, as.Segment.Imports)
	case b.List != nil && as.List != nil:
		return lists.Same(b.List.Rules, as.List.Rules)
	case b.Entries != nil && as.Entries != nil:
		return lists.Same(b.Entries.Entries, as.Entries.Entries)
	}
	return false
}

// does reports whether two bodies have the same rules in the same order and words.
func (b *Body) does(as *Body) bool {
	if b.List == nil || as.List == nil {
		return false
	}
	return slices.EqualFunc(b.List.Rules, as.List.Rules, func(x, y config.Rule) bool { return x.Does(&y) })
}

// middle returns what is left of two lists without the rules that do the same at either end, and how
// many those are at the first.
func middle[T any](a, b []T, same func(x, y *T) bool) (onlyA, onlyB []T, first int) {
	for first < min(len(a), len(b)) && same(&a[first], &b[first]) {
		first++
	}
	a, b = a[first:], b[first:]
	for len(a) > 0 && len(b) > 0 && same(&a[len(a)-1], &b[len(b)-1]) {
		a, b = a[:len(a)-1], b[:len(b)-1]
	}
	return a, b, first
}

// differs is for what is told by its keys alone.
func differs[T any](_, _ *T) bool { return false }

// Hash returns a digest of what a body means to a target: without what its rules are for.
func Hash(b *Body) string {
	sum := newDigests().body(b)
	return hex.EncodeToString(sum[:16])
}

// Hashes returns the digests of some documents, those of sets that they share once. Those of the
// documents of another revision may be known: of what is the same in memory they are taken over.
func Hashes(documents, before map[Key]*Body, known map[Key]string) map[Key]string {
	d, out := newDigests(), make(map[Key]string, len(documents))
	for key, body := range documents {
		if was := before[key]; was != nil && known[key] != "" && body.stands(was) {
			out[key] = known[key]
			continue
		}
		sum := d.body(body)
		out[key] = hex.EncodeToString(sum[:16])
	}
	return out
}

func (d *digests) body(b *Body) (sum [sha256.Size]byte) {
	h := sha256.New()
	switch {
	case b.Segment != nil:
		write(h, "segment", fmt.Sprint(b.Segment.Imports))
		write(h, keysOf(d, b.Segment.Rules, d.hubRule)...)
	case b.Hub != nil:
		write(h, "hub")
		write(h, d.hub(b.Hub, b.Links)...)
	case b.Pool != nil:
		var firewalls []string
		for _, f := range b.Firewalls {
			firewalls = append(firewalls, f.Name+"@"+f.Hub)
		}
		slices.Sort(firewalls)
		write(h, "pool", fmt.Sprint(b.Pool.Rulebook != ""))
		write(h, keysOf(d, b.Pool.Rules, d.bookRule)...)
		write(h, firewalls...)
	case b.List != nil:
		write(h, "list")
		for _, run := range d.runs(b.List.Rules) {
			write(h, run...)
		}
	case b.Entries != nil:
		write(h, "entries")
		write(h, sortedOnce(slices.Clone(keysOf(d, b.Entries.Entries, entryKey)))...)
	case b.Placements != nil:
		write(h, "placements")
		for _, p := range b.Placements {
			write(h, p.Network, p.Subnet, p.Prefix.String(), p.Segment)
		}
	case b.Bears != nil:
		write(h, "bears")
		write(h, slices.Sorted(slices.Values(b.Bears))...)
	default:
		var routes []string
		for _, r := range b.Routes {
			routes = append(routes, r.To.String()+" "+string(r.Via))
		}
		for _, p := range b.Peers {
			routes = append(routes, fmt.Sprint("peer ", p.Name, p.OffersHub))
		}
		write(h, "routes")
		write(h, slices.Sorted(slices.Values(routes))...)
	}
	h.Sum(sum[:0])
	return sum
}

// write adds strings to a digest, with how many there are and how long each is.
func write(h hash.Hash, all ...string) {
	out := binary.AppendUvarint(nil, uint64(len(all)))
	for _, s := range all {
		out = append(binary.AppendUvarint(out, uint64(len(s))), s...)
	}
	h.Write(out)
}

func sortedOnce(all []string) []string {
	slices.Sort(all)
	return slices.Compact(all)
}

// runs returns a list as strings that are the same for lists that do the same by the order of
// their rules: the order counts only between rules that allow and rules that deny.
func (d *digests) runs(rules []config.Rule) [][]string {
	var out [][]string
	keys := keysOf(d, rules, d.rule)
	for _, way := range [2]bool{false, true} {
		var run []string
		var allow bool
		end := func() {
			if run = sortedOnce(run); len(run) > 0 {
				out = append(out, run)
			}
			run = nil
		}
		for i := range rules {
			r := &rules[i]
			if r.Out != way {
				continue
			}
			if r.Allow != allow {
				end()
			}
			allow = r.Allow
			run = append(run, keys[i])
		}
		end()
	}
	return out
}

// keysOf returns rules as strings that are the same for rules that do the same: rules of one type
// are always asked for the same strings. They are not to be written to.
func keysOf[T any](d *digests, rules []T, key func(*T) string) []string {
	if len(rules) == 0 {
		return nil
	}
	at := listKey{&rules[0], len(rules)}
	if known, ok := d.lists[at]; ok {
		return known
	}
	out := make([]string, len(rules))
	for i := range rules {
		out[i] = key(&rules[i])
	}
	if d.lists != nil {
		d.lists[at] = out
	}
	return out
}

func (d *digests) rule(r *config.Rule) string {
	return string(append([]byte{bit(r.Allow)}, d.ruleMatch(r)...))
}

// ruleMatch returns what a rule matches.
func (d *digests) ruleMatch(r *config.Rule) string {
	out := text([]byte{bit(r.Out)}, r.Target)
	out = text(text(out, d.sets(r.Own)), d.sets(r.Peer))
	return string(appendServices(out, r.Services))
}

func bit(is bool) byte {
	if is {
		return 1
	}
	return 0
}

// text appends a string, with its length.
func text(to []byte, s string) []byte {
	return append(binary.AppendUvarint(to, uint64(len(s))), s...)
}

func (d *digests) hubRule(r *config.HubRule) string {
	through := ""
	if r.Verb == config.Steer {
		through = fmt.Sprint(r.Through)
	}
	return string(text(text(nil, string(r.Verb)), through)) + d.hubMatch(r)
}

func (d *digests) hubMatch(r *config.HubRule) string {
	return string(appendServices(text(text(nil, d.ends(r.From)), d.ends(r.To)), r.Services))
}

func (d *digests) bookRule(r *config.BookRule) string {
	return r.Verb + d.bookMatch(r)
}

func (d *digests) bookMatch(r *config.BookRule) string {
	return fmt.Sprint(r.Any) + string(appendServices(text(text(nil, d.ends(r.From)), d.ends(r.To)), r.Services))
}

func entryKey(e *config.Entry) string {
	return string(text(appendPrefix(appendBox([]byte{bit(e.Out)}, e.Service), e.Peer), e.Peers))
}

// sets returns what tells the prefixes of some sets from others, in whatever sets they are.
func (d *digests) sets(sets []*config.Set) string {
	if sets == nil {
		return "any"
	}
	if len(sets) == 1 && len(sets[0].Prefixes) <= few {
		return digest(prefixesOf(sets))
	}
	if len(sets) == 1 {
		s, known := d.known[sets[0]]
		if !known {
			s = digest(prefixesOf(sets))
			d.known[sets[0]] = s
		}
		return s
	}
	each := make([]string, len(sets))
	for i := range sets {
		each[i] = string(text(nil, d.sets(sets[i:i+1])))
	}
	slices.Sort(each)
	all := strings.Join(each, "")
	s, known := d.unions[all]
	if !known {
		s = digest(prefixesOf(sets))
		d.unions[all] = s
	}
	return s
}

// side returns what tells the prefixes of a side of flows from others, remembered by where they are.
func (d *digests) side(p []netip.Prefix) string {
	switch {
	case p == nil:
		return "any"
	case len(p) <= few:
		return digest(p)
	}
	k := prefixesKey{&p[0], len(p)}
	s, known := d.prefixes[k]
	if !known {
		s = digest(p)
		d.prefixes[k] = s
	}
	return s
}

// few is how many prefixes stand for themselves.
const few = 4

// digest returns what tells prefixes from others.
func digest(p []netip.Prefix) string {
	text := make([]byte, 0, 18*len(p))
	for _, x := range p {
		text = appendPrefix(text, x)
	}
	if len(p) <= few {
		return string(text)
	}
	sum := sha256.Sum256(text)
	return string(sum[:])
}

func appendPrefix(to []byte, p netip.Prefix) []byte {
	a := p.Addr().As16()
	return append(append(to, a[:]...), byte(p.Bits()), byte(p.Addr().BitLen()))
}

// prefixesOf returns the prefixes of some sets, sorted; nil for nil.
func prefixesOf(sets []*config.Set) []netip.Prefix {
	if sets == nil {
		return nil
	}
	out := []netip.Prefix{}
	for _, s := range sets {
		out = append(out, s.Prefixes...)
	}
	if !slices.IsSortedFunc(out, netip.Prefix.Compare) {
		slices.SortFunc(out, netip.Prefix.Compare)
	}
	return out
}

func (d *digests) ends(ends []config.End) string {
	var out []string
	for _, e := range ends {
		out = append(out, string(text(text(text(nil, e.Segment), e.Exit), d.sets(setsOf(e.Set)))))
	}
	slices.Sort(out)
	all := []byte{}
	for _, s := range out {
		all = text(all, s)
	}
	return string(all)
}

func appendServices(to []byte, boxes []space.Box) []byte {
	if len(boxes) == 1 {
		return appendBox(to, boxes[0])
	}
	if boxes == nil {
		return appendBox(to, config.Anything)
	}
	all := make([][]byte, len(boxes))
	for i, b := range boxes {
		all[i] = appendBox(nil, b)
	}
	slices.SortFunc(all, bytes.Compare)
	return append(to, bytes.Join(all, nil)...)
}

func servicesKey(boxes []space.Box) string { return string(appendServices(nil, boxes)) }

func appendBox(to []byte, b space.Box) []byte {
	b = config.Bounded(b)
	to = append(to, b.FirstProtocol, b.LastProtocol)
	for _, r := range [2]estate.Range{b.SourcePorts, b.Ports} {
		to = binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(to, r.Lo), r.Hi)
	}
	return to
}

// hub returns the wiring of a hub as strings that are the same for what does the same.
func (d *digests) hub(h *config.Hub, links []estate.Link) []string {
	var out []string
	for _, l := range links {
		out = append(out, fmt.Sprint("link ", l.Name, min(l.Between[0], l.Between[1]), max(l.Between[0], l.Between[1]), l.Cost, l.State == "down", l.Segments))
	}
	for i := range h.Attachments {
		out = append(out, attachmentWords(&h.Attachments[i]))
	}
	for _, x := range h.Exits {
		out = append(out, fmt.Sprint("exit ", x.Name, x.Segments))
	}
	for _, p := range h.Publications {
		out = append(out, fmt.Sprint("publication ", p.Name, p.Exit, p.Segment, p.To, servicesKey(p.Services)))
	}
	slices.Sort(out)
	return out
}

func attachmentWords(a *config.Attachment) string {
	var routes []string
	for _, r := range a.Routes {
		routes = append(routes, fmt.Sprint(r.Segment, r.Prefix, r.Borne, r.Borne && r.Learned))
	}
	slices.Sort(routes)
	return fmt.Sprint("attachment ", a.Name, a.Network, a.Cost, routes, a.Accepts != nil, a.Accepts, a.Announces != nil, a.Announces, a.Translate)
}
