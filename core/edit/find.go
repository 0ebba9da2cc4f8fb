package edit

import (
	"bivium/core/document"
	"bivium/core/estate"
)

// finder finds things of an estate by name. One that is asked often for things of a kind
// keeps an index of their names, so that an edit of many operations costs what it is long.
type finder struct {
	e     *estate.Estate
	asked map[estate.Kind]int
	at    map[estate.Kind]map[string]int // by name: the place, from 1
}

// often is how many times things of a kind are looked for one by one before they are indexed.
const often = 4

func newFinder(e *estate.Estate) *finder {
	return &finder{e: e, asked: map[estate.Kind]int{}, at: map[estate.Kind]map[string]int{}}
}

// find returns the place of a thing in the list of its kind, -1 for none.
func (f *finder) find(ref estate.Ref) int {
	list := document.Things(f.e, ref.Kind)
	if !list.IsValid() {
		return -1
	}
	if f.asked[ref.Kind]++; f.asked[ref.Kind] < often {
		return index(list, ref.Name)
	}
	names := f.at[ref.Kind]
	if names == nil {
		names = make(map[string]int, list.Len())
		for i := range list.Len() {
			if name := document.NameOf(list.Index(i)); names[name] == 0 { // the first, where two have it
				names[name] = i + 1
			}
		}
		f.at[ref.Kind] = names
	}
	return names[ref.Name] - 1
}

// added takes notice of a thing that was appended to the list of its kind.
func (f *finder) added(ref estate.Ref) {
	if names := f.at[ref.Kind]; names != nil {
		names[ref.Name] = document.Things(f.e, ref.Kind).Len()
	}
}

// forget takes notice that a list is another: the index of its names is built anew when it is needed.
func (f *finder) forget(kind estate.Kind) { delete(f.at, kind) }
