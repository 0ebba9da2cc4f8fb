// Package packets has test packets sent, from one workload to another or one of each class of
// flows, and lays what came of them beside what was predicted.
package packets

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"bivium/core/classes"
	"bivium/core/estate"
	"bivium/core/matrix"
	"bivium/core/native/config"
	"bivium/core/native/proof"
	"bivium/core/native/reader"
	"bivium/core/verdict"
	"bivium/internal/app"
	"bivium/internal/app/targets"
	"bivium/internal/app/view"
	"bivium/internal/drivers/hubs"
	"bivium/internal/store"
	"bivium/internal/wording"
)

// Service sends packets. It is safe for concurrent use.
type Service struct {
	app   *app.App
	store *store.Store
	books *targets.Books
	clock func() time.Time
	// why says why targets do not hold what they should; "" where they do.
	why func(ctx context.Context) string
}

// New returns a service. why says why targets do not hold what they should, as far as is known.
func New(a *app.App, s *store.Store, b *targets.Books, clock func() time.Time, why func(context.Context) string) *Service {
	return &Service{a, s, b, clock, why}
}

// Result is what came of one packet, beside what was predicted.
type Result struct {
	Witness   view.Witness `json:"witness"`
	Sent      time.Time    `json:"sent"`
	Took      float64      `json:"took"` // milliseconds
	Delivered bool         `json:"delivered"`
	Answered  bool         `json:"answered"`
	Words     string       `json:"words"`
	Error     string       `json:"error"` // that came back, and from whom; "" for none
	Hops      []Hop        `json:"hops"`
	Predicted Predicted    `json:"predicted"`
	Agrees    bool         `json:"agrees"`
	Why       string       `json:"why"` // why it does not
	Flow      string       `json:"-"`   // as Stage knows it
	pools     []string
}

// Hop is what one list, hub or firewall did with the packet.
type Hop struct {
	At   string       `json:"at"`
	Name string       `json:"name"`
	Rule int          `json:"rule"`
	Said string       `json:"said"`
	Text string       `json:"text"` // of the rule, as it should be there; "" where it is not known
	For  []config.Ref `json:"for"`
}

// Predicted is what the estate says of the flow.
type Predicted struct {
	Delivered bool     `json:"delivered"`
	Answered  bool     `json:"answered"`
	Pools     []string `json:"pools"`
	Words     string   `json:"words"`
	Stricter  string   `json:"stricter"` // why lists stop it though the estate does not; "" where they do not
}

// Try has one packet sent. ask is the flow as the question line has it.
func (s *Service) Try(ctx context.Context, now *view.Snapshot, from, to, on string, sport int, publication string) (*Result, error) {
	f, err := now.ParseFlow(from, to, on, sport, publication)
	if err != nil {
		return nil, err
	}
	results, err := s.send(ctx, now, []verdict.Flow{f})
	if err != nil {
		return nil, err
	}
	return &results[0], nil
}

func (s *Service) send(ctx context.Context, now *view.Snapshot, flows []verdict.Flow) ([]Result, error) {
	d, err := s.app.Hubs(ctx)
	if err != nil {
		return nil, &view.Problem{At: "hubs", Message: "nothing sends test packets: the hubs are not connected", Fix: "connect them under Targets"}
	}
	b, err := s.books.Of(now)
	if err != nil {
		return nil, err
	}
	cfg, _ := b.Config()
	r := reader.New(now.Estate, cfg)
	out := make([]Result, 0, len(flows))
	for part := range slices.Chunk(flows, batch) {
		asked := make([]hubs.Packet, len(part))
		for i, f := range part {
			asked[i] = hubs.Packet{Segment: f.Segment, From: f.Source, To: f.Destination, Protocol: int(f.Protocol), SourcePort: int(f.SourcePort), Port: int(f.Port), Publication: f.Publication}
		}
		at := s.clock()
		sent, err := d.Send(ctx, asked)
		if err != nil {
			return nil, &view.Problem{At: "hubs", Message: "the packets could not be sent: " + err.Error(), Fix: "try again when the hubs answer"}
		}
		for i := range part {
			out = append(out, s.result(ctx, now, cfg, r, &part[i], &sent[i], at))
		}
	}
	return out, nil
}

// batch is how many packets are sent in one request.
const batch = 500

func (s *Service) result(ctx context.Context, now *view.Snapshot, cfg *config.Config, r *reader.Reader, f *verdict.Flow, sent *hubs.Sent, at time.Time) Result {
	want := proof.Expected(now.Judge, f)
	v := now.Judge.Judge(*f)
	answered := want.Delivered && v.Reason != verdict.ReasonNoWayBack && v.Reason != verdict.ReasonAsymmetric
	out := Result{
		Witness: now.WitnessOf(*f), Sent: at, Took: float64(sent.Took) / float64(time.Millisecond), Delivered: sent.Delivered, Answered: sent.Answered, Hops: []Hop{},
		Predicted: Predicted{Delivered: want.Delivered, Answered: answered, Pools: append([]string{}, want.Pools...)},
	}
	if e := sent.Error; e != nil {
		out.Error = e.Says + " from " + e.From
	}
	for _, h := range sent.Hops {
		hop := hopOf(cfg, h)
		if observer(now.Estate, &h) != "" { // it holds rules of its own
			hop.Text, hop.For = "", []config.Ref{}
		}
		out.Hops = append(out.Hops, hop)
	}
	got := reader.Fate{Delivered: sent.Delivered, Pools: sent.Pools, Blocked: sent.Blocked}
	out.Words = came(&got, sent)
	out.pools = sent.Pools
	lists := r.Carry(f)
	if !lists.Same(&want) { // lists cannot tell the ends from others, and stop it
		out.Predicted.Stricter = wording.Blur(r.BlurOf(f))
		out.Predicted.Delivered, out.Predicted.Answered, answered = false, false, false
	}
	out.Predicted.Words = predicted(&lists, answered)
	out.Agrees = got.Same(&lists) && (!sent.Delivered || sent.Answered == answered)
	if !out.Agrees {
		if out.Why = cmp.Or(ownLists(now.Estate, sent), s.why(ctx)); out.Why == "" {
			out.Why = "a target holds other rules than Bivium wrote, or a component is down that Bivium does not know about; see Drift"
		}
	}
	return out
}

// ownLists says why a packet came out otherwise than intended where an account that is only
// observed decided, whose lists Bivium does not write; "" where none did.
func ownLists(e *estate.Estate, sent *hubs.Sent) string {
	for i := len(sent.Hops) - 1; i >= 0; i-- {
		account := observer(e, &sent.Hops[i])
		switch {
		case account == "":
		case sent.Delivered:
			return fmt.Sprintf("account %s is only observed, and its own lists let the packet pass", account)
		case i == len(sent.Hops)-1:
			return fmt.Sprintf("account %s is only observed, and its own lists stop the packet", account)
		}
	}
	return ""
}

// observer returns the account, if it is only observed, of the network whose list a hop is; else "".
func observer(e *estate.Estate, h *hubs.Hop) string {
	if h.At != "list into" && h.At != "list out of" {
		return ""
	}
	for i := range e.Networks {
		if n := &e.Networks[i]; n.Name == h.Name && e.Observes(n.Account) {
			return n.Account
		}
	}
	return ""
}

func predicted(f *reader.Fate, answered bool) string {
	text := wording.Fate(f)
	if f.Delivered && !answered {
		text += ", and the reply does not come back"
	}
	return text
}

// came says what came of a packet, by the last thing that it met.
func came(f *reader.Fate, sent *hubs.Sent) string {
	if f.Delivered || f.Blocked != "" {
		return predicted(f, sent.Answered)
	}
	if len(sent.Hops) == 0 {
		return "stopped"
	}
	h := &sent.Hops[len(sent.Hops)-1]
	text := fmt.Sprintf("stopped at %s %s", h.At, nameOf(h))
	if h.Rule > 0 {
		return fmt.Sprintf("%s, by rule %d", text, h.Rule)
	}
	if h.Said == "deny" {
		return text + ": no rule matches"
	}
	return text + ": " + h.Said
}

func nameOf(h *hubs.Hop) string {
	if h.On != "" {
		return h.Name + "/" + h.On
	}
	return h.Name
}

// hopOf returns a hop with the text of the rule that decided there, as the target should have it.
func hopOf(cfg *config.Config, h hubs.Hop) Hop {
	out := Hop{At: h.At, Name: nameOf(&h), Rule: h.Rule, Said: h.Said, For: []config.Ref{}}
	if h.Rule == 0 {
		return out
	}
	for _, t := range cfg.Named(h.Name) {
		wanted := map[string]string{"match list": "segment", "pool": "pool", "list into": "network", "list out of": "network"}[h.At]
		if t.Kind != wanted {
			continue
		}
		for _, l := range t.Listings {
			if (l.On == h.On || t.Kind == "pool") && h.Rule <= l.Len() {
				line := l.Line(h.Rule - 1)
				out.Text, out.For = line.Words(), append(out.For, line.For...)
				return out
			}
		}
	}
	return out
}

// Round is a round of packets: one of each class of flows.
type Round struct {
	ID       int64     `json:"id"`
	Revision int64     `json:"revision"`
	Segment  string    `json:"segment"` // of whose flows it was; "" for all
	Plan     int64     `json:"plan"`
	Actor    string    `json:"actor"`
	At       time.Time `json:"at"`
	Sent     int       `json:"sent"`
	Passed   int       `json:"passed"`
	Wrong    int       `json:"wrong"`
	Stricter int       `json:"stricter"`
	Results  []Result  `json:"results"` // of those that came out otherwise
}

// mostWrong is how many results of a round are kept.
const mostWrong = 100

// Round has one packet sent for each class of flows of the estate, or of one segment, and keeps
// what came of it. plan is the plan after which it is sent, or 0.
func (s *Service) Round(ctx context.Context, now *view.Snapshot, segment string, plan int64, actor string) (*Round, error) {
	if segment != "" && !slices.Contains(now.Judge.Net.Segments, segment) {
		return nil, &view.Problem{At: "segment", Message: fmt.Sprintf("unknown segment %q", segment), Fix: "use one that exists, or none for all"}
	}
	results, err := s.send(ctx, now, witnesses(now.Judge, now.Matrix, segment))
	if err != nil {
		return nil, err
	}
	out := &Round{Revision: now.Revision, Segment: segment, Plan: plan, Actor: actor, At: s.clock(), Sent: len(results), Results: []Result{}}
	for i := range results {
		r := &results[i]
		if r.Delivered {
			out.Passed++
		}
		if r.Predicted.Stricter != "" {
			out.Stricter++
		}
		if r.Agrees {
			continue
		}
		out.Wrong++
		if len(out.Results) < mostWrong {
			out.Results = append(out.Results, *r)
		}
	}
	return out, s.keep(ctx, out)
}

// Stage has packets sent while targets are led from one estate to another, and returns those that
// come out otherwise than both say, or at the last stage than the second says. A packet that is
// delivered may be so before or after, and through the pools of that; one that is delivered before
// and after may be cut off on the way, but not at the end. known are packets (see Key) that did
// something else before; they are left out. Cost: that of a round.
func (s *Service) Stage(ctx context.Context, before, after *view.Snapshot, known map[string]bool, last bool, plan int64) (wrong []Result, sent int, err error) {
	flows := witnesses(after.Judge, after.Matrix, "")
	if before != after {
		flows = append(flows, witnesses(before.Judge, before.Matrix, "")...)
	}
	seen := map[string]bool{}
	flows = slices.DeleteFunc(flows, func(f verdict.Flow) bool {
		key := fmt.Sprint(f)
		again := seen[key] || known[key]
		seen[key] = true
		return again
	})
	first, err := s.reader(before)
	if err != nil {
		return nil, 0, err
	}
	results, err := s.send(ctx, after, flows)
	if err != nil {
		return nil, 0, err
	}
	for i := range results {
		r := &results[i]
		if r.Agrees || !last && fits(r, first, &flows[i]) {
			continue
		}
		r.Flow = fmt.Sprint(flows[i])
		wrong = append(wrong, *r)
	}
	row := &Round{Revision: after.Revision, Plan: plan, Actor: "bivium", At: s.clock(), Sent: len(results), Wrong: len(wrong), Results: wrong[:min(len(wrong), mostWrong)]}
	for i := range results {
		if results[i].Delivered {
			row.Passed++
		}
	}
	return wrong, len(results), s.keep(ctx, row)
}

// fits reports whether what came of a packet is what the estate of before says, or less than that and
// what the one after says.
func fits(r *Result, before *reader.Reader, f *verdict.Flow) bool {
	was := before.Carry(f)
	if !r.Delivered {
		return !was.Delivered || r.Predicted.Delivered // cut off for a while
	}
	return was.Delivered && !slices.ContainsFunc(was.Pools, func(p string) bool { return !slices.Contains(r.pools, p) })
}

func (s *Service) reader(now *view.Snapshot) (*reader.Reader, error) {
	b, err := s.books.Of(now)
	if err != nil {
		return nil, err
	}
	cfg, _ := b.Config()
	return reader.New(now.Estate, cfg), nil
}

// keep stores a round as evidence.
func (s *Service) keep(ctx context.Context, r *Round) error {
	if r.Results == nil {
		r.Results = []Result{}
	}
	body, err := json.Marshal(r)
	if err != nil {
		return err
	}
	row := &store.Round{Revision: r.Revision, Plan: r.Plan, Actor: r.Actor, At: r.At, Sent: r.Sent, Wrong: r.Wrong, Body: body}
	err = s.store.AddRound(ctx, row)
	r.ID = row.ID
	return err
}

// mostRounds is how many of the last rounds are listed.
const mostRounds = 20

// Rounds returns the last rounds, the newest first.
func (s *Service) Rounds(ctx context.Context) ([]Round, error) {
	rows, err := s.store.Rounds(ctx, mostRounds)
	if err != nil {
		return nil, err
	}
	out := make([]Round, len(rows))
	for i := range rows {
		if err := json.Unmarshal(rows[i].Body, &out[i]); err != nil {
			return nil, err
		}
		out[i].ID = rows[i].ID
	}
	return out, nil
}

// kind is what pairs of classes have in common that the same rules and paths decide.
type kind struct{ rules, effect, publication, from, to int }

// mostPackets is how many packets a round has.
const mostPackets = 20_000

// witnesses returns a flow of each kind and service: of pairs of classes that the same rules and
// the same kind of path decide, between the same networks.
func witnesses(j *verdict.Judge, m *matrix.Matrix, segment string) []verdict.Flow {
	var out []verdict.Flow
	seen := map[kind]bool{}
	in := func(c *classes.Class) bool {
		return segment == "" || c.Internal() && j.Net.Segments[c.End.Segment] == segment
	}
	all := m.InUse()
	for _, a := range all {
		for _, b := range all {
			src, dst := m.Classes[a], m.Classes[b]
			if !in(src) && !in(dst) || src.End.Addr == dst.End.Addr {
				continue
			}
			m.EachResult(a, b, func(x matrix.ClassResult) {
				if len(out) >= mostPackets {
					return
				}
				k := kind{int(x.Combination.RuleSet), int(x.Combination.Effect), int(x.Publication), int(src.Network), int(dst.Network)}
				if seen[k] {
					return
				}
				seen[k] = true
				for atom := range m.Atoms.Len() {
					protocol, sport, dport, _ := m.Atoms.Set(atom).Witness()
					f := verdict.Flow{Segment: verdict.Internet, Source: src.End.Addr, Destination: dst.End.Addr, Service: verdict.Service{Protocol: protocol, SourcePort: sport, Port: dport}}
					if src.Internal() {
						f.Segment, f.Destination = j.Net.Segments[src.End.Segment], classes.AsSeen(j, dst, dst.End.Addr, src.End.Segment)
					} else if x.Publication >= 0 {
						f.Publication = j.PublicationNames()[x.Publication]
					}
					out = append(out, f)
				}
			})
		}
	}
	return out
}
