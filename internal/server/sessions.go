package server

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"net/http"
	"sync"
	"time"

	"github.com/alexedwards/scs/v2"
	"github.com/labstack/echo/v4"

	"bivium/internal/store"
)

// How long a session lasts while nobody uses it, and how long at most.
const (
	sessionIdle    = 12 * time.Hour
	sessionLongest = 7 * 24 * time.Hour
	touchEvery     = time.Minute
)

// sessions are those of people who signed in in a browser. They are kept in the database, by
// the hash of the secret in the browser's cookie.
type sessions struct {
	manager *scs.SessionManager
	kept    *keptSessions
}

const sessionPerson = "person"

func newSessions(s *store.Store, clock func() time.Time) *sessions {
	m := scs.New()
	kept := &keptSessions{store: s, clock: clock, known: map[string]keptSession{}}
	m.Store, m.HashTokenInStore = kept, true
	m.IdleTimeout, m.Lifetime = sessionIdle, sessionLongest
	m.Cookie.Name = "bivium"
	return &sessions{m, kept}
}

// person returns the name of the person whose session a request belongs to; "" for none.
func (s *sessions) person(c echo.Context) (string, error) {
	cookie, err := c.Cookie(s.manager.Cookie.Name)
	if err != nil {
		return "", nil //nolint:nilerr // there is none
	}
	ctx, err := s.manager.Load(c.Request().Context(), cookie.Value)
	if err != nil {
		return "", err
	}
	name := s.manager.GetString(ctx, sessionPerson)
	if name != "" {
		_, _, err = s.manager.Commit(ctx) // so that it is not idle
	}
	return name, err
}

// begin begins a session of a person, in place of the one that the request had.
func (s *sessions) begin(c echo.Context, name string) error {
	if err := s.end(c); err != nil {
		return err
	}
	ctx, err := s.manager.Load(c.Request().Context(), "")
	if err != nil {
		return err
	}
	s.manager.Put(ctx, sessionPerson, name)
	token, _, err := s.manager.Commit(ctx)
	if err != nil {
		return err
	}
	c.SetCookie(s.cookie(c, token))
	return nil
}

// end ends the session of a request, if it has one.
func (s *sessions) end(c echo.Context) error {
	cookie, err := c.Cookie(s.manager.Cookie.Name)
	if err != nil {
		return nil //nolint:nilerr // there is none
	}
	gone := s.cookie(c, "")
	gone.MaxAge = -1
	c.SetCookie(gone)
	return s.kept.Delete(hashOf(cookie.Value))
}

func (s *sessions) cookie(c echo.Context, token string) *http.Cookie {
	return &http.Cookie{Name: s.manager.Cookie.Name, Value: token, Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: c.Scheme() == "https"}
}

// hashOf returns the hash under which scs keeps a token.
func hashOf(token string) string {
	sum := sha256.Sum256([]byte(token))
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

// endAll ends all sessions of a person but that of one cookie.
func (s *sessions) endAll(ctx context.Context, name, but string) error {
	all, err := s.kept.store.Sessions(ctx, s.kept.clock())
	if err != nil {
		return err
	}
	for hash, data := range all {
		_, values, err := s.manager.Codec.Decode(data)
		if err == nil && values[sessionPerson] == name && hash != hashOf(but) {
			if err := s.kept.Delete(hash); err != nil {
				return err
			}
		}
	}
	return nil
}

// keptSession is one as it was stored last.
type keptSession struct {
	data []byte
	ends time.Time
}

// keptSessions keeps sessions in the database. One that is used is not stored anew each time:
// what changes is only when it ends, and a minute does not matter there.
type keptSessions struct {
	store *store.Store
	clock func() time.Time
	mu    sync.Mutex
	known map[string]keptSession
}

// Find returns what is kept of a session.
func (k *keptSessions) Find(hash string) ([]byte, bool, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if known, ok := k.known[hash]; ok && k.clock().Before(known.ends) {
		return known.data, true, nil
	}
	data, ends, err := k.store.Session(context.Background(), hash, k.clock())
	if data == nil || err != nil {
		delete(k.known, hash)
		return nil, false, err
	}
	k.known[hash] = keptSession{data, ends}
	return data, true, nil
}

// Commit stores a session.
func (k *keptSessions) Commit(hash string, data []byte, ends time.Time) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if was, ok := k.known[hash]; ok && string(was.data) == string(data) && ends.Sub(was.ends) < touchEvery {
		return nil
	}
	if err := k.store.PutSession(context.Background(), hash, data, ends, k.clock()); err != nil {
		return err
	}
	k.known[hash] = keptSession{data, ends}
	return nil
}

// Delete ends a session.
func (k *keptSessions) Delete(hash string) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.known, hash)
	return k.store.DropSession(context.Background(), hash)
}
