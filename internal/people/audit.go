package people

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math"
	"sync"
	"time"

	"bivium/internal/store"
	"bivium/internal/vault"
)

// Audit is the log of who did what (C2.7). Each entry has a keyed hash (HMAC, RFC 2104, with
// SHA-256) of itself and of the chain before it, so that one that was changed, removed or
// swapped is found by Verify. It is safe for concurrent use.
type Audit struct {
	store *store.Store
	clock func() time.Time
	key   []byte
	mu    sync.Mutex
	added chan struct{}
}

// auditUse is what the key of the audit log is sealed for.
var auditUse = vault.Use{Account: "", Provider: "bivium", Endpoint: "audit log"}

const auditKey = "audit-key"

// openAudit returns the audit log of a database, whose key is made with it.
func openAudit(ctx context.Context, s *store.Store, v *vault.Vault, clock func() time.Time) (*Audit, error) {
	sealed, err := s.Secret(ctx, auditKey)
	if err != nil {
		return nil, fmt.Errorf("open the audit log: %w", err)
	}
	if sealed == nil {
		key := make([]byte, sha256.Size)
		rand.Read(key) //nolint:errcheck // it never fails
		return &Audit{store: s, clock: clock, key: key, added: make(chan struct{}, 1)}, s.PutSecret(ctx, auditKey, v.Seal(auditUse, key))
	}
	key, err := v.Open(auditUse, sealed)
	if err != nil {
		return nil, fmt.Errorf("open the audit log: its key cannot be decrypted: it was encrypted with another key; provide that in %s", vault.Variable)
	}
	return &Audit{store: s, clock: clock, key: key, added: make(chan struct{}, 1)}, nil
}

// Entry is one line of the audit log.
type Entry struct {
	Number  int64     `json:"number"`
	At      time.Time `json:"at"`
	Actor   string    `json:"actor"` // who; "" where nobody was signed in
	Address string    `json:"address"`
	What    string    `json:"what"`
	About   string    `json:"about"` // a person, draft, account or path
	Detail  string    `json:"detail"`
}

func entryOf(e *store.Entry) Entry {
	return Entry{e.Number, e.At, e.Actor, e.Address, e.What, e.About, e.Details}
}

// chain returns the keyed hash of an entry after a chain. An entry is hashed as JSON, whose
// strings end where they end.
func (a *Audit) chain(before []byte, e *store.Entry) []byte {
	mac := hmac.New(sha256.New, a.key)
	mac.Write(before)
	body, err := json.Marshal([]any{e.Number, e.At.UTC().Format(time.RFC3339), e.Actor, e.Address, e.What, e.About, e.Details})
	if err != nil {
		panic(err) // they are numbers and texts
	}
	mac.Write(body)
	return mac.Sum(nil)
}

// Add appends an entry. by may be nil, for nobody who is known.
func (a *Audit) Add(ctx context.Context, by *Who, what, about, detail string) error {
	e := &store.Entry{At: a.clock(), What: what, About: about, Details: detail}
	if by != nil {
		e.Actor, e.Address = by.Name, by.Address
		if by.Token != "" {
			e.Actor += " (token " + by.Token + ")"
		}
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	err := a.store.Append(context.WithoutCancel(ctx), e, func(before []byte) []byte { return a.chain(before, e) })
	select {
	case a.added <- struct{}{}:
	default: // whoever listens has not looked yet
	}
	return err
}

// Added is sent to after entries were appended. It is for one listener.
func (a *Audit) Added() <-chan struct{} { return a.added }

// Sent is an entry with the head of the chain after it, as it is sent on.
type Sent struct {
	Entry
	Head string
}

// Unsent returns the first entries that were not sent on yet, the oldest first.
func (a *Audit) Unsent(ctx context.Context, most int) ([]Sent, error) {
	number, err := a.store.AuditSent(ctx)
	if err != nil {
		return nil, err
	}
	var out []Sent
	err = a.store.Entries(ctx, number+1, func(e *store.Entry) bool {
		out = append(out, Sent{entryOf(e), hex.EncodeToString(e.Chain)})
		return len(out) < most
	})
	return out, err
}

// NoteSent notes that all entries up to a number were sent on.
func (a *Audit) NoteSent(ctx context.Context, number int64) error {
	return a.store.PutAuditSent(ctx, number)
}

// Last returns the newest entries before a number that hold a text, the newest first. A
// number of 0 stands for the end.
func (a *Audit) Last(ctx context.Context, before int64, find string, most int) ([]Entry, error) {
	if before <= 0 {
		before = math.MaxInt64
	}
	rows, err := a.store.LastEntries(ctx, before, find, most)
	out := []Entry{}
	for i := range rows {
		out = append(out, entryOf(&rows[i]))
	}
	return out, err
}

// Each calls f for every entry, the oldest first.
func (a *Audit) Each(ctx context.Context, f func(Entry) error) (err error) {
	read := a.store.Entries(ctx, 1, func(e *store.Entry) bool {
		err = f(entryOf(e))
		return err == nil
	})
	if err == nil {
		err = read
	}
	return err
}

// Broken is where the chain of an audit log does not hold.
type Broken struct {
	Number int64 // of the first entry that was changed, removed or swapped; of the last one where the end was cut off
	Why    string
}

// Error says where the chain breaks.
func (b *Broken) Error() string { return fmt.Sprintf("audit entry %d: %s", b.Number, b.Why) }

// Verify returns how many entries there are and the head of their chain, or a Broken. Where a
// head of earlier is given, its entry must still be there.
func (a *Audit) Verify(ctx context.Context, head string) (count int64, now string, err error) {
	var before []byte
	found := head == ""
	read := a.store.Entries(ctx, 0, func(e *store.Entry) bool {
		switch {
		case e.Number != count+1:
			err = &Broken{count + 1, "it is missing"}
		case !hmac.Equal(e.Chain, a.chain(before, e)):
			err = &Broken{e.Number, "it was changed, or is not in its place"}
		}
		before = e.Chain
		count = e.Number
		found = found || hex.EncodeToString(before) == head
		return err == nil
	})
	switch {
	case err != nil:
		return count, "", err
	case read != nil:
		return count, "", read
	case !found:
		return count, "", &Broken{count, "no entry has the given head: entries after this one were removed"}
	}
	return count, hex.EncodeToString(before), nil
}
