package drafts

import (
	"cmp"
	"slices"
	"sync"
	"time"

	"bivium/internal/people"
)

// The kinds of events.
const (
	EventEstate   = "estate"   // the estate is another
	EventDrafts   = "drafts"   // there is a draft more
	EventDraft    = "draft"    // a draft changed
	EventTargets  = "targets"  // what targets hold is another, or how far a plan is
	EventNotices  = "notices"  // there is one more
	EventPresence = "presence" // who is in a draft, and what they have open
)

// Event is something that those should know who look at the estate or a draft.
type Event struct {
	Kind    string   `json:"kind"`
	Draft   int64    `json:"draft,omitempty"`
	Present []Person `json:"present,omitempty"`
}

// Person is somebody in a draft.
type Person struct {
	Name   string `json:"name"`
	Called string `json:"called"`
	Open   string `json:"open"` // the object that they have open, kind/name; "" for none
}

// Events tells what happens to whoever listens. The zero value is ready. It is safe for
// concurrent use.
type Events struct {
	mu        sync.Mutex
	listeners map[*Listener]bool
	opened    map[opener]string // the object that somebody has open in a draft
	pending   bool              // a change of the estate is about to be told
}

// opener is somebody in a draft.
type opener struct {
	draft int64
	name  string
}

// gather is how long changes of the estate are gathered before they are told: routers may bring
// many in a row.
const gather = 200 * time.Millisecond

// changed tells everybody that the estate is another, whoever or whatever made it so.
func (e *Events) changed() {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.pending {
		return
	}
	e.pending = true
	time.AfterFunc(gather, func() {
		e.mu.Lock()
		e.pending = false
		e.mu.Unlock()
		e.tell(Event{Kind: EventEstate})
	})
}

// Written tells everybody that a plan went on, or began or ended.
func (e *Events) Written() { e.tell(Event{Kind: EventTargets}) }

// Noticed tells everybody that there is a notice.
func (e *Events) Noticed() { e.tell(Event{Kind: EventNotices}) }

// Listener gets events until it is closed. One that is too slow misses some.
type Listener struct {
	C     chan Event
	who   *people.Who
	draft int64
	of    *Events
}

// kept is how many events wait for a listener.
const kept = 64

// Listen returns a listener of somebody who looks at a draft, or, with 0, at the estate.
func (e *Events) Listen(who *people.Who, draft int64) *Listener {
	l := &Listener{C: make(chan Event, kept), who: who, draft: draft, of: e}
	e.mu.Lock()
	if e.listeners == nil {
		e.listeners = map[*Listener]bool{}
	}
	e.listeners[l] = true
	e.mu.Unlock()
	e.present(draft)
	return l
}

// Close ends a listener.
func (l *Listener) Close() {
	l.of.mu.Lock()
	delete(l.of.listeners, l)
	l.of.mu.Unlock()
	l.of.present(l.draft)
}

// Opens says which object somebody has open in a draft.
func (e *Events) Opens(who *people.Who, draft int64, open string) {
	e.mu.Lock()
	if e.opened == nil {
		e.opened = map[opener]string{}
	}
	if e.opened[opener{draft, who.Name}] = open; open == "" {
		delete(e.opened, opener{draft, who.Name})
	}
	e.mu.Unlock()
	e.present(draft)
}

// present tells those in a draft who else is.
func (e *Events) present(draft int64) {
	if draft == 0 {
		return
	}
	e.mu.Lock()
	here := map[string]Person{}
	for l := range e.listeners {
		if l.draft == draft {
			here[l.who.Name] = Person{l.who.Name, l.who.Called, e.opened[opener{draft, l.who.Name}]}
		}
	}
	e.mu.Unlock()
	list := []Person{}
	for _, p := range here {
		list = append(list, p)
	}
	slices.SortFunc(list, func(a, b Person) int { return cmp.Compare(a.Name, b.Name) })
	e.tell(Event{Kind: EventPresence, Draft: draft, Present: list})
}

// tell tells everybody, or, of who is present, those in the draft.
func (e *Events) tell(event Event) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for l := range e.listeners {
		if event.Kind == EventPresence && l.draft != event.Draft {
			continue
		}
		select {
		case l.C <- event:
		default: // they are too slow, and ask for everything once they are back
		}
	}
}
