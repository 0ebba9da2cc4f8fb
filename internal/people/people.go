// Package people knows who may sign in, what each may do, and what they did: people, teams,
// roles, tokens and sessions (C2.1, C2.2), and the audit log (C2.7).
package people

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"bivium/core/estate"
	"bivium/internal/store"
	"bivium/internal/vault"
)

// Role is what somebody may do. Everybody may see.
type Role string

// The roles.
const (
	Viewer        Role = "viewer"        // sees
	Engineer      Role = "engineer"      // writes drafts
	Approver      Role = "approver"      // approves
	Operator      Role = "operator"      // applies
	Auditor       Role = "auditor"       // reads the audit log and reports
	Administrator Role = "administrator" // manages people, accounts, credentials and settings
)

// Roles lists the roles.
var Roles = []Role{Viewer, Engineer, Approver, Operator, Auditor, Administrator}

// Grant gives a person a role, in some segments or, where none is named, in all.
type Grant struct {
	Role     Role     `json:"role"`
	Segments []string `json:"segments,omitempty"`
}

// Person is somebody who may sign in.
type Person struct {
	Name     string  `json:"name"`
	Called   string  `json:"called"`
	Active   bool    `json:"active"`
	Grants   []Grant `json:"grants"`
	Password bool    `json:"password"` // they have one
	Subject  string  `json:"subject"`  // who vouches for them, and as whom

	id   int64
	hash string
	made time.Time
}

// Who is somebody who is signed in, or for whom a token acts.
type Who struct {
	Name, Called string
	Teams        []string
	Address      string // from which they came
	grants       []Grant
	only         Role   // the role of a token, which gives no other; "" for none
	Token        string // what the token is called; "" for a session
}

// May reports whether somebody has a role, in some segment at least. Everybody may see.
func (w *Who) May(r Role) bool {
	return r == Viewer || slices.ContainsFunc(w.grants, func(g Grant) bool { return g.Role == r && w.allows(r) })
}

// MayIn reports whether somebody has a role in a segment.
func (w *Who) MayIn(r Role, segment string) bool {
	return slices.ContainsFunc(w.grants, func(g Grant) bool {
		return g.Role == r && w.allows(r) && (len(g.Segments) == 0 || slices.Contains(g.Segments, segment))
	})
}

// allows reports whether a token, if it is one, gives a role.
func (w *Who) allows(r Role) bool { return w.only == "" || w.only == r }

// Owns reports whether one of some owners, people and teams, is somebody.
func (w *Who) Owns(owners []string) bool {
	return slices.ContainsFunc(owners, func(o string) bool { return o == w.Name || slices.Contains(w.Teams, o) })
}

// RolesOf returns the roles that somebody has, in the order of Roles.
func (w *Who) RolesOf() []Role {
	out := []Role{}
	for _, r := range Roles {
		if slices.ContainsFunc(w.grants, func(g Grant) bool { return g.Role == r && w.allows(r) }) {
			out = append(out, r)
		}
	}
	return out
}

// System returns who stands for the server itself, as which it does what nobody asked for.
func System(name string) *Who {
	w := &Who{Name: name, Called: name}
	for _, r := range Roles {
		w.grants = append(w.grants, Grant{Role: r})
	}
	return w
}

// Problem is something that is wrong with what was asked, with how to fix it.
type Problem struct{ At, Message, Fix string }

// Error returns the message.
func (p *Problem) Error() string { return p.Message }

// Register is everybody who may sign in. It is safe for concurrent use.
type Register struct {
	store  *store.Store
	clock  func() time.Time
	audit  *Audit
	vault  *vault.Vault
	doors  []string // of the demo: people whom anybody may be
	tries  *tries
	mu     sync.RWMutex
	people map[string]*Person
	teams  map[string][]string
	tokens []store.Token
}

// Open returns the people of a database.
func Open(ctx context.Context, s *store.Store, v *vault.Vault, clock func() time.Time) (*Register, error) {
	audit, err := openAudit(ctx, s, v, clock)
	if err != nil {
		return nil, err
	}
	r := &Register{store: s, clock: clock, audit: audit, vault: v, tries: newTries(clock)}
	return r, r.load(ctx)
}

// load reads everybody anew.
func (r *Register) load(ctx context.Context) error {
	rows, err := r.store.People(ctx)
	if err != nil {
		return fmt.Errorf("load the people: %w", err)
	}
	people := map[string]*Person{}
	for _, row := range rows {
		p := &Person{Name: row.Name, Called: row.Called, Active: row.Active, Password: row.Password != "", Subject: row.Subject, id: row.ID, hash: row.Password, made: row.Made}
		if err := json.Unmarshal(row.Grants, &p.Grants); err != nil {
			return fmt.Errorf("load the roles of %s: %w", row.Name, err)
		}
		people[p.Name] = p
	}
	teams, err := r.store.Teams(ctx)
	if err != nil {
		return fmt.Errorf("load the teams: %w", err)
	}
	tokens, err := r.store.Tokens(ctx)
	if err != nil {
		return fmt.Errorf("load the tokens: %w", err)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.people, r.teams, r.tokens = people, teams, tokens
	return nil
}

// All returns everybody, by name.
func (r *Register) All() []Person {
	r.mu.RLock()
	defer r.mu.RUnlock()
	out := []Person{}
	for _, p := range r.people {
		out = append(out, *p)
	}
	slices.SortFunc(out, func(a, b Person) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// Team is some people.
type Team struct {
	Name    string   `json:"name"`
	Members []string `json:"members"`
}

// Teams returns all teams, by name.
func (r *Register) Teams() []Team {
	r.mu.RLock()
	defer r.mu.RUnlock()
	out := []Team{}
	for name, members := range r.teams {
		out = append(out, Team{name, members})
	}
	slices.SortFunc(out, func(a, b Team) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// Members returns the active people whom some owners are or hold, by name.
func (r *Register) Members(owners []string) []Person {
	r.mu.RLock()
	defer r.mu.RUnlock()
	names := map[string]bool{}
	for _, o := range owners {
		names[o] = true
		for _, m := range r.teams[o] {
			names[m] = true
		}
	}
	out := []Person{}
	for _, p := range r.people {
		if names[p.Name] && p.Active {
			out = append(out, *p)
		}
	}
	slices.SortFunc(out, func(a, b Person) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// CalledOf returns what somebody is called; their name where nobody has it any more.
func (r *Register) CalledOf(name string) string {
	r.mu.RLock()
	defer r.mu.RUnlock()
	if p := r.people[name]; p != nil {
		return p.Called
	}
	return name
}

// whoIs returns somebody as they are by now; nil if they may not sign in.
func (r *Register) whoIs(name, address string) *Who {
	r.mu.RLock()
	defer r.mu.RUnlock()
	p := r.people[name]
	if p == nil || !p.Active {
		return nil
	}
	w := &Who{Name: p.Name, Called: p.Called, Address: address, grants: p.Grants}
	for team, members := range r.teams {
		if slices.Contains(members, name) {
			w.Teams = append(w.Teams, team)
		}
	}
	slices.Sort(w.Teams)
	return w
}

// Put adds a person, or changes what they are called, whether they may sign in, and their
// roles. An administrator cannot take that role from the last who has it.
func (r *Register) Put(ctx context.Context, by *Who, p Person) error {
	if err := r.check(&p); err != nil {
		return err
	}
	r.mu.RLock()
	was := r.people[p.Name]
	last := was != nil && isAdministrator(was) && !isAdministrator(&p)
	for _, other := range r.people {
		last = last && (other.Name == p.Name || !isAdministrator(other))
	}
	r.mu.RUnlock()
	if last {
		return &Problem{"grants", "this is the only administrator", "make somebody else an administrator first"}
	}
	if p.Grants == nil {
		p.Grants = []Grant{}
	}
	grants, err := json.Marshal(p.Grants)
	if err != nil {
		return err
	}
	row := &store.Person{Name: p.Name, Called: p.Called, Active: p.Active, Grants: grants, Subject: p.Subject, Made: r.clock()}
	what := "person added"
	if was != nil {
		what = "person changed"
		row.ID, row.Password, row.Made = was.id, was.hash, was.made
	}
	if err := r.store.PutPerson(ctx, row); errors.Is(err, store.ErrTaken) {
		return &Problem{"name", fmt.Sprintf("the name %s is already taken", p.Name), "choose another name"}
	} else if err != nil {
		return err
	}
	if err := r.audit.Add(ctx, by, what, p.Name, grantWords(&p)); err != nil {
		return err
	}
	return r.load(ctx)
}

// grantWords says what somebody may do.
func grantWords(p *Person) string {
	words := []string{}
	for _, g := range p.Grants {
		word := string(g.Role)
		if len(g.Segments) > 0 {
			word += " in " + strings.Join(g.Segments, " and ")
		}
		words = append(words, word)
	}
	if !p.Active {
		words = append(words, "may not sign in")
	}
	return cmp.Or(strings.Join(words, ", "), "no role")
}

func isAdministrator(p *Person) bool {
	return p.Active && slices.ContainsFunc(p.Grants, func(g Grant) bool { return g.Role == Administrator && len(g.Segments) == 0 })
}

func (r *Register) check(p *Person) error {
	if err := estate.CheckName(p.Name); err != nil {
		return &Problem{"name", err.Error(), "use lowercase letters, digits, dots and hyphens"}
	}
	r.mu.RLock()
	_, team := r.teams[p.Name]
	r.mu.RUnlock()
	if team {
		return &Problem{"name", fmt.Sprintf("a team is called %s", p.Name), "choose another name"}
	}
	if p.Called == "" {
		p.Called = p.Name
	}
	for i, g := range p.Grants {
		if !slices.Contains(Roles, g.Role) {
			return &Problem{fmt.Sprintf("grants[%d].role", i), fmt.Sprintf("there is no role %q", g.Role), fmt.Sprint("the roles are ", Roles)}
		}
	}
	return nil
}

// PutTeam says who is in a team; nobody, and it is no more.
func (r *Register) PutTeam(ctx context.Context, by *Who, t Team) error {
	if err := estate.CheckName(t.Name); err != nil {
		return &Problem{"name", err.Error(), "use lowercase letters, digits, dots and hyphens"}
	}
	r.mu.RLock()
	person := r.people[t.Name] != nil
	unknown := slices.IndexFunc(t.Members, func(m string) bool { return r.people[m] == nil })
	r.mu.RUnlock()
	if person {
		return &Problem{"name", fmt.Sprintf("a person is called %s", t.Name), "choose another name"}
	}
	if unknown >= 0 {
		return &Problem{fmt.Sprintf("members[%d]", unknown), "unknown person " + t.Members[unknown], "add the person first"}
	}
	slices.Sort(t.Members)
	if err := r.store.PutTeam(ctx, t.Name, slices.Compact(t.Members)); err != nil {
		return err
	}
	if err := r.audit.Add(ctx, by, "team changed", t.Name, cmp.Or(strings.Join(t.Members, ", "), "removed")); err != nil {
		return err
	}
	return r.load(ctx)
}

// Audit returns the audit log.
func (r *Register) Audit() *Audit { return r.audit }
