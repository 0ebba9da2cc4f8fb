// Package watch looks outside by itself: whether accounts hold what they should, and whether they
// can be read. With it comes what waits for a person inside: what was applied in an emergency and
// not reviewed since, and what runs out. It is told on screen, and to people as notices.
package watch

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"bivium/core/findings"
	"bivium/core/native/plan"
	"bivium/internal/app"
	"bivium/internal/app/drafts"
	"bivium/internal/app/targets"
	"bivium/internal/app/view"
	"bivium/internal/notices"
	"bivium/internal/people"
	"bivium/internal/store"
)

// The kinds of what wants to be looked at.
const (
	Drift     = "drift"     // an account holds something else than it should
	Unread    = "unread"    // an account cannot be read
	Emergency = "emergency" // a revision was applied without approval, and not reviewed since
)

// Outside is what wants to be looked at, apart from the estate itself.
type Outside struct {
	At       *time.Time `json:"at"` // when accounts were read last; null before
	Looking  bool       `json:"looking"`
	Concerns []Concern  `json:"concerns"`
}

// Concern is one thing that wants to be looked at.
type Concern struct {
	Kind    string    `json:"kind"`
	Subject string    `json:"subject"`
	Body    string    `json:"body"`
	Link    string    `json:"link"` // a place of the product
	Since   time.Time `json:"since"`
}

// Config is what a Service works with.
type Config struct {
	App     *app.App
	Store   *store.Store
	Books   *targets.Books
	People  *people.Register
	Notices *notices.Service
	Log     *slog.Logger
	Clock   func() time.Time
	Told    func() // is called when something changed; nil for nobody
	// Settled reports whether nothing is being written: what is, would look like drift.
	Settled func(ctx context.Context) bool
	// Every is how often accounts are read; 0 for only when somebody asks.
	Every time.Duration
}

// Service looks outside. It is safe for concurrent use.
type Service struct {
	Config
	one     sync.Mutex // looks at a time
	mu      sync.Mutex
	at      time.Time
	looking bool
	found   []Concern // drift, and what could not be read
}

// New returns a service. It looks at nothing before Run.
func New(c Config) *Service {
	if c.Told == nil {
		c.Told = func() {}
	}
	if c.Settled == nil {
		c.Settled = func(context.Context) bool { return true }
	}
	return &Service{Config: c}
}

// first is how long after its start the service looks for the first time.
const first = 3 * time.Second

// Run looks at intervals until ctx ends.
func (s *Service) Run(ctx context.Context) {
	if s.Every == 0 {
		return
	}
	next := time.After(first)
	for {
		select {
		case <-ctx.Done():
			return
		case <-next:
			if s.Settled(ctx) {
				s.look(ctx)
			}
		}
		next = time.After(s.Every)
	}
}

// Look looks now, and returns what was found.
func (s *Service) Look(ctx context.Context) (*Outside, error) {
	s.look(ctx)
	return s.Outside(ctx)
}

// Outside returns what was found last.
func (s *Service) Outside(ctx context.Context) (*Outside, error) {
	out := &Outside{Concerns: []Concern{}}
	s.mu.Lock()
	if !s.at.IsZero() {
		at := s.at
		out.At = &at
	}
	out.Looking = s.looking
	out.Concerns = append(out.Concerns, s.found...)
	s.mu.Unlock()
	emergencies, err := s.emergencies(ctx)
	out.Concerns = append(out.Concerns, emergencies...)
	return out, err
}

// emergencies returns the revisions that were applied in an emergency and not reviewed since.
func (s *Service) emergencies(ctx context.Context) ([]Concern, error) {
	rows, err := s.Store.Unreviewed(ctx)
	var out []Concern
	for i := range rows {
		var note drafts.Note
		if err := json.Unmarshal(rows[i].Note, &note); err != nil {
			return nil, err
		}
		out = append(out, Concern{
			Kind: Emergency, Subject: fmt.Sprintf("Revision %d was applied in an emergency and is not reviewed", rows[i].Number),
			Body: fmt.Sprintf("%s. One of %s must review it.", note.Emergency, strings.Join(note.Asked, ", ")),
			Link: fmt.Sprintf("/changes/history/%d/%d", rows[i].Number-1, rows[i].Number), Since: rows[i].At,
		})
	}
	return out, err
}

func (s *Service) look(ctx context.Context) {
	s.one.Lock()
	defer s.one.Unlock()
	s.set(func() { s.looking = true })
	found, err := s.read(ctx)
	if err != nil && ctx.Err() == nil {
		s.Log.Warn("accounts could not be compared with what they should hold", "error", err)
	}
	now := s.Clock()
	s.set(func() {
		if s.looking = false; err == nil {
			s.at, s.found = now, s.since(found, now)
		}
	})
	s.tell(ctx, found)
	s.tellOfDays(ctx)
}

func (s *Service) set(change func()) {
	s.mu.Lock()
	change()
	s.mu.Unlock()
	s.Told()
}

// since gives what was found before the time since which it is known.
func (s *Service) since(found []Concern, now time.Time) []Concern {
	for i := range found {
		found[i].Since = now
		if k := slices.IndexFunc(s.found, func(c Concern) bool { return c.Kind == found[i].Kind && c.Subject == found[i].Subject }); k >= 0 {
			found[i].Since = s.found[k].Since
		}
	}
	return found
}

// read reads all accounts, and returns which of them want to be looked at.
func (s *Service) read(ctx context.Context) ([]Concern, error) {
	now := s.App.Now()
	book, err := s.Books.Of(now)
	if err != nil {
		return nil, err
	}
	readings, err := s.App.ReadAll(ctx, book)
	if err != nil {
		return nil, err
	}
	var out []Concern
	for i := range readings {
		r := &readings[i]
		switch {
		case r.Problem != "" && r.Account == plan.Hubs:
			out = append(out, Concern{Kind: Unread, Subject: "Hubs and firewalls cannot be read", Body: r.Problem + ".", Link: "/targets"})
		case r.Problem != "":
			out = append(out, Concern{Kind: Unread, Subject: fmt.Sprintf("Account %s cannot be read", r.Account), Body: r.Problem + ".", Link: "/estate?thing=account:" + r.Account})
		case now.Estate.Observes(r.Account):
		default:
			if c, is := drift(book, r); is {
				out = append(out, c)
			}
		}
	}
	return out, nil
}

// drift compares one account, the others being as they should.
func drift(book *targets.Book, r *targets.Reading) (Concern, bool) {
	lists := book.Lists(r)
	if lists == 0 {
		return Concern{}, false
	}
	d := book.Compare([]targets.Reading{*r})
	body := "No flow has another outcome."
	if n := len(d.Differences); n > 0 {
		count := map[string]int{}
		for i := range d.Differences {
			count[d.Differences[i].Change]++
		}
		var parts []string
		for _, x := range []struct{ change, words string }{{"opened", "opened"}, {"past", "taken past a firewall"}, {"closed", "closed"}, {"others", "taken through other firewalls"}} {
			if n := count[x.change]; n > 0 {
				parts = append(parts, fmt.Sprintf("%d %s", n, x.words))
			}
		}
		body = fmt.Sprintf("Sets of flows: %s.", strings.Join(parts, ", "))
	}
	whose := "Account " + r.Account
	if r.Account == plan.Hubs {
		whose = "Hubs and firewalls"
	}
	subject := fmt.Sprintf("%s: %d lists or route tables differ from what is intended", whose, lists)
	if lists == 1 {
		subject = whose + ": 1 list or route table differs from what is intended"
	}
	return Concern{Kind: Drift, Subject: subject, Body: body, Link: "/targets/drift"}, true
}

// tell tells operators what was not known before.
func (s *Service) tell(ctx context.Context, found []Concern) {
	for i := range found {
		c := &found[i]
		s.Notices.Tell(ctx, s.Notices.Operators(), notices.Notice{
			Kind: notices.Drift, Subject: c.Subject, Body: c.Body, Link: c.Link, Key: fmt.Sprintf("%s %s since %s", c.Kind, c.Subject, c.Since.Format(time.RFC3339)),
		})
	}
}

// tellOfDays tells owners, or operators where nobody owns a segment, what runs out, has run out or
// is to be reviewed: once for each date.
func (s *Service) tellOfDays(ctx context.Context) {
	now := s.App.Now()
	for _, x := range now.Issues().Findings {
		switch findings.FindingCode(x.Code) {
		case findings.RunsOut, findings.RanOut, findings.ReviewDue:
			s.Notices.Tell(ctx, s.concerned(now, x.Segments), notices.Notice{
				Kind: notices.Days, Subject: x.Message, Body: "It is in Findings.", Link: "/findings?finding=" + x.Key, Key: "day " + x.Code + " " + x.Message,
			})
		}
	}
}

// concerned returns the people who own some segments; operators where nobody does.
func (s *Service) concerned(now *view.Snapshot, segments []string) []string {
	var owners, out []string
	for i := range now.Estate.Segments {
		if x := &now.Estate.Segments[i]; slices.Contains(segments, x.Name) {
			owners = append(owners, x.Owners...)
		}
	}
	for _, p := range s.People.Members(owners) {
		out = append(out, p.Name)
	}
	if len(out) == 0 {
		return s.Notices.Operators()
	}
	return out
}
