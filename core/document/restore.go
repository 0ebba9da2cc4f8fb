package document

import (
	"cmp"
	"fmt"
	"reflect"

	"bivium/core/estate"
)

// Restore returns the estate that some changes led to e from: each thing as it was before.
// What went comes back at the end of its list. e stays as it is, and shares with the result
// the lists in which nothing changed. Cost: the lists that change.
func Restore(e *estate.Estate, changes []Change) (*estate.Estate, error) {
	next := *e
	byList := map[string][]*Change{}
	for i := range changes {
		byList[changes[i].List] = append(byList[changes[i].List], &changes[i])
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
