package document

import (
	"crypto/sha256"
	"encoding/hex"
	"reflect"
	"slices"

	"bivium/core/estate"
)

// Base returns what tells one state of a thing from others, as far as people write it: a
// hash of its canonical form without the fields that syncs, routers and health checks change
// (C1.3). An edit that was made for another base is in conflict.
func Base(thing reflect.Value) string {
	owned := deepCopy(thing)
	forgetObserved(owned)
	sum := sha256.Sum256(body(owned))
	return hex.EncodeToString(sum[:12])
}

func forgetObserved(v reflect.Value) {
	switch v.Kind() {
	case reflect.Struct:
		for _, f := range fieldsOf(v.Type()) {
			if sub := v.FieldByIndex(f.index); f.observed {
				sub.SetZero()
			} else {
				forgetObserved(sub)
			}
		}
	case reflect.Slice:
		if v.Type().Elem().Kind() == reflect.Struct {
			for i := range v.Len() {
				forgetObserved(v.Index(i))
			}
		}
	}
}

// Merge takes over what syncs, routers and health checks have changed since a person saw a
// thing: mine, which is written to, is what the person made of was, and now is what it is by
// now. What the person changed stays changed.
func Merge(mine, was, now reflect.Value) {
	for _, f := range fieldsOf(mine.Type()) {
		m, w, n := mine.FieldByIndex(f.index), was.FieldByIndex(f.index), now.FieldByIndex(f.index)
		switch {
		case f.observed && m.Type() == reflect.TypeFor[[]estate.Learned]():
			m.Set(reflect.ValueOf(mergeLearned(m.Interface().([]estate.Learned), w.Interface().([]estate.Learned), n.Interface().([]estate.Learned))))
		case f.observed && m.Kind() == reflect.Map:
			m.Set(mergeKeys(m, w, n))
		case f.observed:
			if reflect.DeepEqual(m.Interface(), w.Interface()) {
				m.Set(n)
			}
		case m.Kind() == reflect.Slice && hasName(m.Type().Elem()):
			for i := range m.Len() {
				if a, b := byName(w, keyOf(m.Index(i))), byName(n, keyOf(m.Index(i))); a.IsValid() && b.IsValid() {
					Merge(m.Index(i), a, b)
				}
			}
		}
	}
}

// mergeKeys returns the entries of now, with what a person made of those of was.
func mergeKeys(mine, was, now reflect.Value) reflect.Value {
	out := reflect.MakeMap(mine.Type())
	take := func(from reflect.Value, unless func(key reflect.Value) bool) {
		for _, key := range from.MapKeys() {
			if !unless(key) {
				out.SetMapIndex(key, from.MapIndex(key))
			}
		}
	}
	take(now, func(key reflect.Value) bool { // taken off by the person
		return was.MapIndex(key).IsValid() && !mine.MapIndex(key).IsValid()
	})
	take(mine, func(key reflect.Value) bool { // as it was seen: now says what it is
		return was.MapIndex(key).IsValid() && was.MapIndex(key).Interface() == mine.MapIndex(key).Interface()
	})
	if out.Len() == 0 {
		return reflect.Zero(mine.Type())
	}
	return out
}

func hasName(t reflect.Type) bool {
	return t.Kind() == reflect.Struct && slices.ContainsFunc(fieldsOf(t), func(f field) bool { return f.key == "name" && f.name })
}

func byName(list reflect.Value, name string) reflect.Value {
	for i := range list.Len() {
		if keyOf(list.Index(i)) == name {
			return list.Index(i)
		}
	}
	return reflect.Value{}
}

// mergeLearned returns the prefixes of now, with what a person decided about them since was.
func mergeLearned(mine, was, now []estate.Learned) []estate.Learned {
	find := func(list []estate.Learned, l *estate.Learned) *estate.Learned {
		for i := range list {
			if list[i].Prefix == l.Prefix && list[i].Segment == l.Segment {
				return &list[i]
			}
		}
		return nil
	}
	var out []estate.Learned
	for i := range now {
		l := now[i]
		before, written := find(was, &l), find(mine, &l)
		switch {
		case before != nil && written == nil: // taken out
			continue
		case before != nil && before.Status != written.Status:
			l.Status = written.Status
		}
		out = append(out, l)
	}
	for i := range mine { // written by hand
		if find(was, &mine[i]) == nil && find(now, &mine[i]) == nil {
			out = append(out, mine[i])
		}
	}
	return out
}
