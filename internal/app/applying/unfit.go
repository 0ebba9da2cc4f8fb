package applying

import (
	"bivium/core/estate"
	"bivium/core/native"
	"bivium/core/native/plan"
)

// unfit is what is left as it is, because the rules of some networks do not fit.
type unfit struct {
	networks  map[string]bool
	accounts  map[string]bool   // that have such a network
	workloads map[string]bool   // in such a network
	lists     map[plan.Key]bool // that no workload of another network would bear
	documents map[plan.Key]*plan.Body
}

// unfitOf returns what is left as it is, of what targets would have to hold.
func unfitOf(refused []native.Refusal, e *estate.Estate, documents map[plan.Key]*plan.Body) *unfit {
	u := &unfit{map[string]bool{}, map[string]bool{}, map[string]bool{}, map[plan.Key]bool{}, documents}
	for i := range refused {
		u.networks[refused[i].Network] = true
	}
	if len(u.networks) == 0 {
		return u
	}
	for i := range e.Networks {
		if n := &e.Networks[i]; u.networks[n.Name] {
			u.accounts[n.Account] = true
		}
	}
	for i := range e.Workloads {
		if w := &e.Workloads[i]; u.networks[w.Network] {
			u.workloads[w.Name] = true
		}
	}
	borne := map[plan.Key]bool{}
	for key, body := range documents {
		if key.Kind != plan.KindBinding {
			continue
		}
		for _, name := range body.Bears {
			list := plan.Key{Kind: plan.KindEntries, Account: key.Account, On: name}
			if u.workloads[key.On] {
				u.lists[list] = true
			} else {
				borne[list] = true
			}
		}
	}
	for list := range borne {
		delete(u.lists, list)
	}
	return u
}

// has reports whether a document is left as it is. A list that nothing asks for any more is, as
// long as a workload may bear it whose own lists do not fit.
func (u *unfit) has(key plan.Key) bool {
	switch key.Kind {
	case plan.KindList, plan.KindRoutes:
		return u.networks[key.Name]
	case plan.KindBinding:
		return u.workloads[key.On]
	case plan.KindEntries:
		return u.lists[key] || u.documents[key] == nil && u.accounts[key.Account]
	}
	return false
}
