// Package notices tells people what they should know: in the browser, and by e-mail or webhook
// where they want that.
package notices

import (
	"context"
	"fmt"
	"log/slog"
	"net/mail"
	"net/url"
	"slices"
	"strings"
	"time"

	"bivium/internal/people"
	"bivium/internal/store"
)

// The kinds of notices.
const (
	Approval = "approval" // a draft waits for one's approval
	Draft    = "draft"    // a draft of one's own was approved or applied
	Failed   = "failed"   // something could not be written, or went back
	Waits    = "waits"    // a plan waits for a person to start it
	Drift    = "drift"    // an account holds something else than it should, or cannot be read
	Days     = "days"     // something runs out, or is to be reviewed
	Test     = "test"
)

// Kinds returns the kinds that somebody may want.
func Kinds() []string { return []string{Approval, Draft, Failed, Waits, Drift, Days} }

// Notice is something that somebody should know. Key is that of what is told once; "" for what
// is told each time.
type Notice struct {
	Kind, Subject, Body, Link, Key string
}

// Service tells people. A nil Service tells nobody. It is safe for concurrent use.
type Service struct {
	store  *store.Store
	people *people.Register
	log    *slog.Logger
	clock  func() time.Time
	mail   *Mail
	base   string // the address of the server, before links
	told   func()
}

// Config is what a Service works with.
type Config struct {
	Store  *store.Store
	People *people.Register
	Log    *slog.Logger
	Clock  func() time.Time
	Mail   *Mail  // nil where no e-mail is sent
	Base   string // the address of the server, as people know it
	Told   func() // is called when there is a notice; nil for nobody
}

// New returns a service. Nothing is sent before Run.
func New(c Config) *Service {
	if c.Told == nil {
		c.Told = func() {}
	}
	return &Service{c.Store, c.People, c.Log, c.Clock, c.Mail, strings.TrimSuffix(c.Base, "/"), c.Told}
}

// Tell tells some people, by name, each once. What cannot be stored is logged: nothing fails
// because nobody could be told.
func (s *Service) Tell(ctx context.Context, to []string, n Notice) {
	if s == nil {
		return
	}
	ctx = context.WithoutCancel(ctx)
	now := s.clock()
	if n.Key == "" {
		n.Key = fmt.Sprintf("%s %d", n.Kind, now.UnixNano())
	}
	slices.Sort(to)
	for _, person := range slices.Compact(to) {
		if err := s.tell(ctx, person, &n, now); err != nil {
			s.log.Error("a notice could not be stored", "person", person, "error", err)
		}
	}
	s.told()
}

func (s *Service) tell(ctx context.Context, person string, n *Notice, now time.Time) error {
	c, err := s.store.ChannelOf(ctx, person)
	if err != nil {
		return err
	}
	var ways []string
	if n.Kind == Test || slices.Contains(c.Kinds, n.Kind) {
		if c.Email != "" && s.mail != nil {
			ways = append(ways, byEmail)
		}
		if c.Webhook != "" {
			ways = append(ways, byWebhook)
		}
	}
	_, err = s.store.AddNotice(ctx, &store.Notice{Person: person, Kind: n.Kind, Subject: n.Subject, Body: n.Body, Link: n.Link, Key: n.Key, At: now}, ways)
	return err
}

// Operators returns the names of those who apply drafts.
func (s *Service) Operators() []string {
	if s == nil {
		return nil
	}
	var out []string
	for _, p := range s.people.All() {
		if p.Active && slices.ContainsFunc(p.Grants, func(g people.Grant) bool { return g.Role == people.Operator }) {
			out = append(out, p.Name)
		}
	}
	return out
}

// Settings is where somebody wants to be told.
type Settings struct {
	Email    string   `json:"email"`
	Webhook  string   `json:"webhook"`
	Kinds    []string `json:"kinds"`
	Key      string   `json:"key"`      // with which what is sent to the webhook is signed
	SendMail bool     `json:"sendMail"` // whether the server sends e-mail
}

// SettingsOf returns where a person wants to be told.
func (s *Service) SettingsOf(ctx context.Context, person string) (*Settings, error) {
	c, err := s.store.ChannelOf(ctx, person)
	if err != nil {
		return nil, err
	}
	out := &Settings{Email: c.Email, Webhook: c.Webhook, Kinds: append([]string{}, c.Kinds...), SendMail: s.mail != nil}
	if c.Webhook != "" {
		out.Key, err = s.people.WebhookKey(ctx, person, false)
	}
	return out, err
}

// PutSettings stores where a person wants to be told. field is what is wrong with it, if err says
// something.
func (s *Service) PutSettings(ctx context.Context, person string, x *Settings) (field string, err error) {
	if x.Email != "" {
		if a, err := mail.ParseAddress(x.Email); err != nil || a.Address != x.Email {
			return "email", fmt.Errorf("%q is not an e-mail address", x.Email)
		}
	}
	if x.Webhook != "" {
		if u, err := url.Parse(x.Webhook); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
			return "webhook", fmt.Errorf("%q is not an address that begins with http or https", x.Webhook)
		}
	}
	for _, k := range x.Kinds {
		if !slices.Contains(Kinds(), k) {
			return "kinds", fmt.Errorf("there is no kind %q; there are %s", k, strings.Join(Kinds(), ", "))
		}
	}
	return "", s.store.PutChannel(ctx, &store.Channel{Person: person, Email: x.Email, Webhook: x.Webhook, Kinds: x.Kinds})
}

// Told is a notice to be read.
type Told struct {
	ID      int64     `json:"id"`
	At      time.Time `json:"at"`
	Kind    string    `json:"kind"`
	Subject string    `json:"subject"`
	Body    string    `json:"body"`
	Link    string    `json:"link"`
	Seen    bool      `json:"seen"`
}

// most is how many notices are listed.
const most = 100

// Of returns the last notices of a person, the newest first.
func (s *Service) Of(ctx context.Context, person string) ([]Told, error) {
	rows, err := s.store.Notices(ctx, person, most)
	out := make([]Told, len(rows))
	for i := range rows {
		n := &rows[i]
		out[i] = Told{n.ID, n.At, n.Kind, n.Subject, n.Body, n.Link, n.Seen}
	}
	return out, err
}

// See marks the notices of a person up to one as seen.
func (s *Service) See(ctx context.Context, person string, upTo int64) error {
	return s.store.SeeNotices(ctx, person, upTo)
}
