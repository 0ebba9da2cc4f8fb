package document

import (
	"cmp"
	"fmt"
	"reflect"

	"bivium/core/estate"
)

// Past is what some revisions changed, the newest first: of each thing only how it was before
// all of them and how it is after.
type Past struct {
	changes []Change
	at      map[named]int // into changes: what was there before them, by its name then
}

type named struct{ list, name string }

// Add takes in the changes of the revision before those that it has. Cost: the changes.
func (p *Past) Add(changes []Change) {
	later := make([]int, len(changes)) // into p.changes: what happened to each of them since; -1
	for i := range changes {
		c := &changes[i]
		later[i] = -1
		key := named{c.List, c.Key}
		if at, ok := p.at[key]; ok && c.After != nil {
			later[i] = at
			delete(p.at, key)
		}
	}
	if p.at == nil {
		p.at = map[named]int{}
	}
	for i, c := range changes {
		name := cmp.Or(c.Was, c.Key)
		if later[i] < 0 {
			later[i] = len(p.changes)
			p.changes = append(p.changes, c)
		} else {
			c.Key, c.After = p.changes[later[i]].Key, p.changes[later[i]].After
			c.Was = ""
			if name != c.Key {
				c.Was = name
			}
			p.changes[later[i]] = c
		}
		if c.Before != nil {
			p.at[named{c.List, name}] = later[i]
		}
	}
}

// Restore returns the estate that all of it led to e from: each thing as it was before. What
// went comes back at the end of its list. e stays as it is, and shares with the result the
// lists in which nothing changed. Cost: the lists that change.
func (p *Past) Restore(e *estate.Estate) (*estate.Estate, error) {
	next := *e
	byList := map[string][]*Change{}
	for i := range p.changes {
		if c := &p.changes[i]; c.Before != nil || c.After != nil { // else it came and went meanwhile
			byList[c.List] = append(byList[c.List], c)
		}
	}
	v := reflect.ValueOf(&next).Elem()
	for _, f := range lists() {
		if turned := byList[f.key]; len(turned) > 0 {
			list := v.FieldByIndex(f.index)
			restored, err := restoreList(list, f.key, turned)
			if err != nil {
				return nil, err
			}
			list.Set(restored)
		}
	}
	return &next, nil
}

func restoreList(list reflect.Value, key string, changes []*Change) (reflect.Value, error) {
	was := map[string]*Change{} // by the name after the change
	for _, c := range changes {
		if c.After != nil {
			was[c.Key] = c
		}
	}
	out := reflect.MakeSlice(list.Type(), 0, list.Len()+len(changes))
	for i := range list.Len() {
		c := was[keyOf(list.Index(i))]
		switch {
		case c == nil:
			out = reflect.Append(out, list.Index(i))
		case c.Before != nil:
			thing, err := thingOf(key, c)
			if err != nil {
				return out, err
			}
			out = reflect.Append(out, thing)
		}
	}
	for _, c := range changes {
		if c.After == nil && c.Before != nil {
			thing, err := thingOf(key, c)
			if err != nil {
				return out, err
			}
			out = reflect.Append(out, thing)
		}
	}
	return out, nil
}

// thingOf reads what a change had before it.
func thingOf(list string, c *Change) (reflect.Value, error) {
	value, err := ValueOf(c.Before)
	if err == nil {
		var thing reflect.Value
		if thing, err = value.Thing(KindOf(list)); err == nil {
			if name := thing.FieldByName("Name"); name.String() == "" {
				name.SetString(cmp.Or(c.Was, c.Key))
			}
			return thing, nil
		}
	}
	return reflect.Value{}, fmt.Errorf("%s %s as it was cannot be read: %w", list, c.Key, err)
}
