package document

import (
	"reflect"
	"strconv"
	"strings"
	"sync"

	"bivium/core/estate"
)

// field is what the tags of package estate say of one key.
type field struct {
	key      string
	index    []int
	required bool
	name     bool
	def      string // "" for none
	enum     []string
	min      int
	bounded  bool
	max      int         // 0 for the usual one
	empty    bool        // an empty list is kept
	of       estate.Kind // the kind of thing that the value names; "" for none
	vital    bool        // the object is nothing without that thing
	observed bool        // others than people change it, too
	date     bool        // a day
	madeUp   bool        // a name that is made up where it is missing
}

var fieldCache sync.Map // reflect.Type to []field

// fieldsOf returns the keys of a struct of package estate, in canonical order.
func fieldsOf(t reflect.Type) []field {
	if cached, ok := fieldCache.Load(t); ok {
		return cached.([]field)
	}
	var fields []field
	for _, sf := range reflect.VisibleFields(t) {
		key, _, _ := strings.Cut(sf.Tag.Get("json"), ",")
		if key == "" || key == "-" || sf.Anonymous {
			continue
		}
		f := field{key: key, index: sf.Index}
		if tag := sf.Tag.Get("doc"); tag != "" {
			for _, word := range strings.Split(tag, ",") {
				f.set(word)
			}
		}
		fields = append(fields, f)
	}
	fieldCache.Store(t, fields)
	return fields
}

func (f *field) set(word string) {
	word, value, _ := strings.Cut(word, "=")
	switch word {
	case "req":
		f.required = true
	case "name":
		f.name = true
	case "def":
		f.def = value
	case "enum":
		f.enum = strings.Split(value, "|")
	case "empty":
		f.empty = true
	case "of":
		f.of = estate.Kind(value)
	case "date":
		f.date = true
	case "vital":
		f.vital = true
	case "observed":
		f.observed = true
	case "madeup":
		f.madeUp = true
	case "min":
		f.bounded = true
		f.min, _ = strconv.Atoi(value)
	case "max":
		f.max, _ = strconv.Atoi(value)
	default:
		panic("document: unknown tag " + word)
	}
}
