package people

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"fmt"
	"slices"
	"strings"
	"time"

	"bivium/internal/store"
)

// tokenPrefix is what every token begins with, so that one that leaked is found.
const tokenPrefix = "bivium_"

// TokenView is a token as its person sees it: without its secret.
type TokenView struct {
	ID   int64      `json:"id"`
	Name string     `json:"name"`
	Role Role       `json:"role"`
	Made time.Time  `json:"made"`
	Ends time.Time  `json:"ends"`
	Used *time.Time `json:"used"` // null for one that never was
}

// tokenLasts is the longest time that a token is good.
const tokenLasts = 366 * 24 * time.Hour

// MakeToken makes a token of a person with one of their roles, and returns its secret, which
// is told this once.
func (r *Register) MakeToken(ctx context.Context, by *Who, name string, role Role, ends time.Time) (string, *TokenView, error) {
	now := r.clock()
	switch {
	case by.Token != "":
		return "", nil, &Problem{"", "a token cannot make tokens", "sign in"}
	case strings.TrimSpace(name) == "":
		return "", nil, &Problem{"name", "the token has no name", "say what it is for"}
	case !slices.Contains(Roles, role) || !by.May(role):
		return "", nil, &Problem{"role", fmt.Sprintf("you do not have the role %s", role), "choose one of yours"}
	case !ends.After(now) || ends.After(now.Add(tokenLasts)):
		return "", nil, &Problem{"ends", "the end must be within the next 366 days", "choose another day"}
	}
	r.mu.RLock()
	id := r.people[by.Name].id
	r.mu.RUnlock()
	secret := tokenPrefix + rand.Text()
	t := &store.Token{Person: id, Name: name, Role: string(role), Hash: hashOf(secret), Made: now, Ends: ends}
	if err := r.store.PutToken(ctx, t); err != nil {
		return "", nil, err
	}
	if err := r.audit.Add(ctx, by, "token made", name, fmt.Sprintf("role %s, until %s", role, ends.UTC().Format(time.DateOnly))); err != nil {
		return "", nil, err
	}
	return secret, viewOf(t), r.load(ctx)
}

func viewOf(t *store.Token) *TokenView {
	v := &TokenView{t.ID, t.Name, Role(t.Role), t.Made, t.Ends, nil}
	if !t.Used.IsZero() {
		v.Used = &t.Used
	}
	return v
}

// TokensOf returns the tokens of a person, the oldest first.
func (r *Register) TokensOf(name string) []TokenView {
	r.mu.RLock()
	defer r.mu.RUnlock()
	out := []TokenView{}
	for i := range r.tokens {
		if p := r.people[name]; p != nil && r.tokens[i].Person == p.id {
			out = append(out, *viewOf(&r.tokens[i]))
		}
	}
	return out
}

// DropToken revokes a token of somebody's own.
func (r *Register) DropToken(ctx context.Context, by *Who, id int64) error {
	r.mu.RLock()
	person := r.people[by.Name].id
	r.mu.RUnlock()
	if err := r.store.DropToken(ctx, id, person); err != nil {
		return err
	}
	if err := r.audit.Add(ctx, by, "token revoked", fmt.Sprint(id), ""); err != nil {
		return err
	}
	return r.load(ctx)
}

// useEvery is how often it is noted that a token was used.
const useEvery = time.Minute

// ByToken returns for whom a token acts; nil for one that is not known, or over.
func (r *Register) ByToken(ctx context.Context, secret, address string) (*Who, error) {
	hash, now := hashOf(secret), r.clock()
	r.mu.Lock()
	var found *store.Token
	name := ""
	note := false
	for i := range r.tokens {
		t := &r.tokens[i]
		if subtle.ConstantTimeCompare(t.Hash, hash) == 1 && now.Before(t.Ends) {
			if note = now.Sub(t.Used) >= useEvery; note {
				t.Used = now
			}
			copied := *t
			found = &copied
		}
	}
	for _, p := range r.people {
		if found != nil && p.id == found.Person {
			name = p.Name
		}
	}
	r.mu.Unlock()
	if found == nil {
		return nil, nil
	}
	if note {
		if err := r.store.UseToken(ctx, found.ID, now); err != nil {
			return nil, err
		}
	}
	w := r.whoIs(name, address)
	if w != nil {
		w.only, w.Token = Role(found.Role), found.Name
	}
	return w, nil
}
