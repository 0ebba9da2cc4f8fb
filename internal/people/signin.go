package people

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/alexedwards/argon2id"
	"golang.org/x/time/rate"

	"bivium/internal/store"
)

// ErrRefused is returned where somebody cannot sign in. It does not say why: who guesses must
// not learn which names there are.
var ErrRefused = errors.New("the name or the password is wrong")

// ErrTooOften is returned where somebody tried too often within a short time.
var ErrTooOften = errors.New("too many attempts; wait a minute")

// shortest and longest are how many characters a password has.
const (
	shortest = 12
	longest  = 256
)

// hashing is what a password costs: 64 MiB and one pass, as RFC 9106 recommends where memory
// is short, with a lane for each of two processors.
var hashing = &argon2id.Params{Memory: 64 << 10, Iterations: 1, Parallelism: 2, SaltLength: 16, KeyLength: 32}

// nobodys is the hash of a password of nobody: who is unknown takes as long as who is known.
var nobodys = sync.OnceValue(func() string {
	hash, err := argon2id.CreateHash(rand.Text(), hashing)
	if err != nil {
		panic(err)
	}
	return hash
})

// tries limits how often one tries to sign in: per name, and per address. It forgets nobody
// who tried within the last minutes.
type tries struct {
	clock func() time.Time
	mu    sync.Mutex
	of    map[string]*rate.Limiter
}

// Of a name 5 tries at once and then one in 12 s; of an address 20, for many may share one.
const (
	perName    = 5
	perAddress = 20
	again      = 12 * time.Second
	mostTriers = 10_000
)

func newTries(clock func() time.Time) *tries {
	return &tries{clock: clock, of: map[string]*rate.Limiter{}}
}

func (t *tries) allow(name, address string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.of) > mostTriers {
		clear(t.of)
	}
	ok := true
	for key, burst := range map[string]int{"name " + name: perName, "address " + address: perAddress} {
		if t.of[key] == nil {
			t.of[key] = rate.NewLimiter(rate.Every(again), burst)
		}
		ok = t.of[key].AllowN(t.clock(), 1) && ok
	}
	return ok
}

// SignIn returns who has a name and a password; ErrRefused or ErrTooOften if nobody does.
func (r *Register) SignIn(ctx context.Context, name, password, address string) (*Who, error) {
	if !r.tries.allow(name, address) {
		return nil, errors.Join(ErrTooOften, r.failed(ctx, name, address, "too many attempts"))
	}
	r.mu.RLock()
	hash := ""
	if p := r.people[name]; p != nil && p.Active {
		hash = p.hash
	}
	r.mu.RUnlock()
	known := hash != ""
	if !known {
		hash = nobodys()
	}
	fits, err := argon2id.ComparePasswordAndHash(password, hash)
	if err != nil {
		return nil, err
	}
	if !fits || !known {
		return nil, errors.Join(ErrRefused, r.failed(ctx, name, address, "wrong name or password"))
	}
	return r.entered(ctx, name, address, "password")
}

// entered logs that somebody signed in, and returns who.
func (r *Register) entered(ctx context.Context, name, address, how string) (*Who, error) {
	w := r.whoIs(name, address)
	if w == nil {
		return nil, errors.Join(ErrRefused, r.failed(ctx, name, address, "not active"))
	}
	return w, r.audit.Add(ctx, w, "signed in", w.Name, how)
}

// failed logs that somebody could not sign in.
func (r *Register) failed(ctx context.Context, name, address, why string) error {
	if utf8.RuneCountInString(name) > longest {
		name = string([]rune(name)[:longest])
	}
	return r.audit.Add(ctx, &Who{Address: address}, "sign-in failed", name, why)
}

// Door is somebody of the demo whom anybody may be.
type Door struct {
	Name   string `json:"name"`
	Called string `json:"called"`
	Roles  []Role `json:"roles"`
}

// OpenDoors lets anybody be some people: the demo does, and no other server.
func (r *Register) OpenDoors(names ...string) { r.doors = names }

// Doors returns whom anybody may be.
func (r *Register) Doors() []Door {
	out := []Door{}
	for _, name := range r.doors {
		if w := r.whoIs(name, ""); w != nil {
			out = append(out, Door{w.Name, w.Called, w.RolesOf()})
		}
	}
	return out
}

// EnterDoor returns one of those whom anybody may be; ErrRefused for others.
func (r *Register) EnterDoor(ctx context.Context, name, address string) (*Who, error) {
	for _, door := range r.doors {
		if door == name {
			return r.entered(ctx, name, address, "demo")
		}
	}
	return nil, errors.Join(ErrRefused, r.failed(ctx, name, address, "no such demo person"))
}

// linkLasts is how long a link is good.
const linkLasts = time.Hour

// Link returns a link's secret, good once and for an hour, with which a person sets a password.
func (r *Register) Link(ctx context.Context, by *Who, name string) (string, error) {
	r.mu.RLock()
	p := r.people[name]
	r.mu.RUnlock()
	if p == nil {
		return "", store.ErrNotFound
	}
	secret := rand.Text()
	if err := r.store.PutLink(ctx, hashOf(secret), p.id, r.clock().Add(linkLasts)); err != nil {
		return "", err
	}
	return secret, r.audit.Add(ctx, by, "link made", name, "")
}

// FirstLink returns the secret of the link that makes the first administrator; "" where
// somebody can sign in already.
func (r *Register) FirstLink(ctx context.Context) (string, error) {
	for _, p := range r.All() {
		if p.Active && (p.Password || p.Subject != "") || len(r.doors) > 0 {
			return "", nil
		}
	}
	secret := rand.Text()
	return secret, r.store.PutLink(ctx, hashOf(secret), 0, r.clock().Add(linkLasts))
}

// UseLink sets a password by a link, and returns whose it is now. The first link makes an
// administrator with every role, of the given name. Sessions of before are for the caller to
// end.
func (r *Register) UseLink(ctx context.Context, secret, name, password, address string) (*Who, error) {
	if !r.tries.allow("", address) {
		return nil, ErrTooOften
	}
	if err := CheckPassword(password); err != nil {
		return nil, err
	}
	if name != "" {
		if err := r.check(&Person{Name: name}); err != nil {
			return nil, err
		}
	}
	of, err := r.store.UseLink(ctx, hashOf(secret), r.clock())
	if errors.Is(err, store.ErrNotFound) {
		return nil, errors.Join(&Problem{"link", "the link was used already, or is older than an hour", "ask an administrator for another; for the first one, restart the server"},
			r.failed(ctx, name, address, "link not valid"))
	}
	if err != nil {
		return nil, err
	}
	if of == 0 {
		first := Person{Name: name, Called: name, Active: true}
		for _, role := range Roles {
			first.Grants = append(first.Grants, Grant{Role: role})
		}
		if err := r.Put(ctx, &Who{Name: name, Address: address}, first); err != nil {
			return nil, err
		}
	} else {
		for _, p := range r.All() {
			if p.id == of {
				name = p.Name
			}
		}
	}
	if err := r.setPassword(ctx, name, password); err != nil {
		return nil, err
	}
	if err := r.audit.Add(ctx, &Who{Name: name, Address: address}, "password set", name, "by link"); err != nil {
		return nil, err
	}
	return r.entered(ctx, name, address, "link")
}

// ChangePassword puts another password in the place of somebody's.
func (r *Register) ChangePassword(ctx context.Context, by *Who, old, fresh string) error {
	if by.Token != "" {
		return &Problem{"", "a token cannot change a password", "sign in"}
	}
	if !r.tries.allow(by.Name, by.Address) {
		return ErrTooOften
	}
	r.mu.RLock()
	hash := r.people[by.Name].hash
	r.mu.RUnlock()
	if hash == "" {
		return &Problem{"old", "you have no password", "ask an administrator for a link"}
	}
	if fits, err := argon2id.ComparePasswordAndHash(old, hash); err != nil || !fits {
		return errors.Join(err, &Problem{"old", "that is not your password", "type your present password"})
	}
	if err := CheckPassword(fresh); err != nil {
		return err
	}
	if err := r.setPassword(ctx, by.Name, fresh); err != nil {
		return err
	}
	return r.audit.Add(ctx, by, "password changed", by.Name, "")
}

// CheckPassword returns what is wrong with a password, or nil.
func CheckPassword(password string) error {
	switch n := utf8.RuneCountInString(password); {
	case n < shortest:
		return &Problem{"password", fmt.Sprintf("the password has %d characters; at least %d are needed", n, shortest), "use a longer one, such as four words"}
	case n > longest:
		return &Problem{"password", fmt.Sprintf("the password has %d characters; at most %d are allowed", n, longest), "use a shorter one"}
	case strings.TrimSpace(password) == "":
		return &Problem{"password", "the password is blank", "use letters"}
	}
	return nil
}

func (r *Register) setPassword(ctx context.Context, name, password string) error {
	hash, err := argon2id.CreateHash(password, hashing)
	if err != nil {
		return err
	}
	rows, err := r.store.People(ctx)
	if err != nil {
		return err
	}
	for _, row := range rows {
		if row.Name == name {
			row.Password = hash
			if err := r.store.PutPerson(ctx, &row); err != nil {
				return err
			}
			return r.load(ctx)
		}
	}
	return store.ErrNotFound
}

func hashOf(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// Vouched returns who is known by an issuer and a subject, for whom a provider vouches;
// ErrRefused for others: an administrator adds people, and says who vouches for them. One
// known by a name alone until now is known by the subject from then on.
func (r *Register) Vouched(ctx context.Context, issuer, subject, name, address string) (*Who, error) {
	full := issuer + " " + subject
	for _, p := range r.All() {
		switch {
		case p.Subject == full:
			return r.entered(ctx, p.Name, address, "OpenID Connect")
		case p.Subject == issuer && p.Name == name:
			p.Subject = full
			if err := r.Put(ctx, &Who{Name: name, Address: address}, p); err != nil {
				return nil, err
			}
			return r.entered(ctx, p.Name, address, "OpenID Connect")
		}
	}
	return nil, errors.Join(ErrRefused, r.failed(ctx, name, address, "not known here: "+full))
}

// Known returns somebody by name, as they are by now; nil if they may not sign in.
func (r *Register) Known(name, address string) *Who { return r.whoIs(name, address) }
