package app

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"bivium/core/document"
	"bivium/core/inventory"
	"bivium/internal/store"
)

// LastStep is how the estate came to be what it is, and whether that can be taken back.
type LastStep struct {
	Revision int64              `json:"revision"`
	Why      string             `json:"why"` // it cannot be taken back; "" if it can
	Actor    string             `json:"actor"`
	At       *time.Time         `json:"at"` // nil where nobody knows
	Changes  []inventory.Change `json:"changes"`
	More     int                `json:"more"` // changes that are not told
}

// maxUndone is how many changes of a step are told.
const maxUndone = 20

// Last returns the last step. Cost: what it changed.
func (a *App) Last(ctx context.Context) (*LastStep, error) {
	out := &LastStep{Revision: a.Now().Revision, Changes: []inventory.Change{}}
	step, err := a.Store.MadeBy(ctx, out.Revision)
	if errors.Is(err, store.ErrNotFound) {
		out.Why = "this is what came first"
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	out.Actor, out.At = step.Actor, &step.At
	account, read := strings.CutPrefix(step.What, "read ")
	switch {
	case read:
		out.Why = fmt.Sprintf("the last reading of %s brought this: the next would bring it again", account)
	case step.What == "routers":
		out.Why = "routers announced this: accept or refuse it where it is shown"
	case step.What != store.Edit:
		out.Why = "the mapping of tags brought this: change it there"
	}
	changes := changesOf(step)
	out.More = max(0, len(changes)-maxUndone)
	out.Changes = append(out.Changes, changes[:len(changes)-out.More]...)
	if len(changes) == 0 && out.Why == "" {
		out.Why = "it changed nothing but names of the estate"
	}
	return out, nil
}

// changesOf returns what a step changed, by kind and name. Things without names are told
// apart by what they connect: those that only stand elsewhere in their list have not
// changed.
func changesOf(step *store.Made) []inventory.Change {
	type thing struct{ list, name string }
	was := map[thing][][]byte{}
	for _, o := range step.Before {
		t := thing{o.List, nameOf(&o)}
		was[t] = append(was[t], o.Body)
	}
	var out []inventory.Change
	note := func(t thing, what inventory.What) {
		out = append(out, inventory.Change{Kind: inventory.Kind(t.list), Name: t.name, What: what})
	}
	for _, o := range step.After {
		t := thing{o.List, nameOf(&o)}
		before := was[t]
		if len(before) == 0 {
			note(t, inventory.New)
			continue
		}
		i := max(0, slices.IndexFunc(before, func(b []byte) bool { return bytes.Equal(b, o.Body) }))
		if !bytes.Equal(before[i], o.Body) {
			note(t, inventory.Changed)
		}
		was[t] = slices.Delete(slices.Clone(before), i, i+1)
	}
	for t, left := range was {
		for range left {
			note(t, inventory.Gone)
		}
	}
	slices.SortFunc(out, func(a, b inventory.Change) int {
		return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Name, b.Name), cmp.Compare(a.What, b.What))
	})
	return out
}

// nameOf returns the name of an object, or what it connects.
func nameOf(o *document.Object) string {
	if !document.Nameless(o.List) {
		return o.Key
	}
	var ends struct {
		Network, Hub string
		Between      []string
	}
	if json.Unmarshal(o.Body, &ends) != nil {
		return o.Key
	}
	if o.List == "attachments" {
		return ends.Network + "@" + ends.Hub
	}
	return strings.Join(ends.Between, "-")
}
