package app

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"bivium/core/estate"
	"bivium/core/inventory"
	"bivium/core/native/plan"
	"bivium/internal/app/targets"
	"bivium/internal/app/view"
	"bivium/internal/drivers"
)

// nativePatience is how long one account is waited for.
const nativePatience = 40 * time.Second

// ReadTargets reads what all connected accounts hold now, at once. What cannot be read says why.
func (a *App) ReadTargets(ctx context.Context) ([]targets.Reading, error) {
	accounts, err := a.Accounts(ctx)
	if err != nil {
		return nil, err
	}
	var out []targets.Reading
	for _, x := range accounts {
		if x.Endpoint != "" {
			out = append(out, targets.Reading{Account: x.Name, Provider: x.Provider, At: time.Now()})
		}
	}
	var g sync.WaitGroup
	for i := range out {
		g.Go(func() {
			if err := a.readTarget(ctx, &out[i]); err != nil {
				out[i].Problem, out[i].Native = connectProblem(err).Error(), nil
			}
		})
	}
	g.Wait()
	return out, nil
}

// ReadHubs reads some documents of hubs and firewalls, and what else they hold; nil where they are not connected. What cannot
// be read says why.
func (a *App) ReadHubs(ctx context.Context, keys []plan.Key) (*targets.Reading, error) {
	ctx, cancel := context.WithTimeout(ctx, nativePatience)
	defer cancel()
	d, err := a.Hubs(ctx)
	if errors.Is(err, ErrNotConnected) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	out := &targets.Reading{Account: plan.Hubs, Provider: hubsProvider, At: time.Now(), Hubs: map[plan.Key]*plan.Body{}}
	held, err := d.All(ctx, keys)
	if err != nil {
		out.Problem, out.Hubs = connectProblem(err).Error(), nil
		return out, nil
	}
	for key, is := range held {
		out.Hubs[key] = is.Body
	}
	return out, nil
}

// ReadAll reads what all connected accounts hold now, and the hubs and firewalls.
func (a *App) ReadAll(ctx context.Context, book *targets.Book) ([]targets.Reading, error) {
	out, err := a.ReadTargets(ctx)
	if err != nil {
		return nil, err
	}
	hubs, err := a.ReadHubs(ctx, book.HubKeys())
	if hubs != nil {
		out = append(out, *hubs)
	}
	return out, err
}

func (a *App) readTarget(ctx context.Context, r *targets.Reading) error {
	ctx, cancel := context.WithTimeout(ctx, nativePatience)
	defer cancel()
	_, d, err := a.driver(ctx, r.Account)
	if err != nil {
		return err
	}
	now := a.Now()
	names, err := NamesIn(ctx, d, now, r.Account)
	if err != nil {
		return err
	}
	r.Networks, r.Workloads = names.Networks, names.Workloads
	r.Named = NamedIn(now, r.Networks)
	var ids []string
	for id, name := range r.Networks {
		if name != "" {
			ids = append(ids, id)
		}
	}
	if r.Native, err = d.Native(ctx, ids); err == nil {
		names.Read(r.Native)
	}
	return err
}

// Names are the names that the estate has for what an account has.
type Names struct {
	Networks, Workloads map[string]string    // by the provider's ID
	subnets             map[[2]string]string // that have other names there: by the network's ID and that name
	there               map[[2]string]string // the other way round
}

// Read gives lists that hang on subnets the names that the estate has for those.
func (n *Names) Read(native *drivers.Native) {
	for i := range native.Lists {
		l := &native.Lists[i]
		l.On = cmp.Or(n.subnets[[2]string{l.Network, l.On}], l.On)
	}
}

// There returns what the provider calls a subnet of a network, which is given by its ID.
func (n *Names) There(network, subnet string) string {
	return cmp.Or(n.there[[2]string{network, subnet}], subnet)
}

// callSubnets notes which subnets have other names at the provider: those of the same prefix are the same.
func (n *Names) callSubnets(held map[string][]inventory.Subnet, e *estate.Estate) {
	for i := range e.Networks {
		network := &e.Networks[i]
		for id, name := range n.Networks {
			if name != network.Name {
				continue
			}
			for _, s := range held[id] {
				k := slices.IndexFunc(network.Subnets, func(x estate.Subnet) bool { return x.Prefix == s.Prefix })
				if k >= 0 && network.Subnets[k].Name != s.Name {
					n.subnets[[2]string{id, s.Name}], n.there[[2]string{id, network.Subnets[k].Name}] = network.Subnets[k].Name, s.Name
				}
			}
		}
	}
}

// NamesIn returns the names that the estate has for the networks and workloads of an account: those
// under which a sync took them in, or else their own.
func NamesIn(ctx context.Context, d drivers.Driver, now *view.Snapshot, account string) (*Names, error) {
	networks, workloads, subnets := map[string]string{}, map[string]string{}, map[string][]inventory.Subnet{}
	here := map[string]bool{}
	for i := range now.Estate.Networks {
		here["network "+now.Estate.Networks[i].Name] = true
	}
	for i := range now.Estate.Workloads {
		here["workload "+now.Estate.Workloads[i].Name] = true
	}
	for cursor := ""; ; {
		page, err := d.Page(ctx, cursor)
		if err != nil {
			return nil, err
		}
		for i := range page.Networks {
			n := &page.Networks[i]
			subnets[n.ID] = n.Subnets
			if here["network "+plain(n.Name)] {
				networks[n.ID] = plain(n.Name)
			}
		}
		for i := range page.Workloads {
			if w := &page.Workloads[i]; here["workload "+plain(w.Name)] {
				workloads[w.ID] = plain(w.Name)
			}
		}
		if cursor = page.Next; cursor == "" {
			break
		}
	}
	for i := range now.Known {
		switch k := &now.Known[i]; {
		case k.Account != account || k.Gone:
		case k.Kind == inventory.NetworkKind:
			networks[k.ID] = k.Name
		default:
			workloads[k.ID] = k.Name
		}
	}
	out := &Names{networks, workloads, map[[2]string]string{}, map[[2]string]string{}}
	out.callSubnets(subnets, now.Estate)
	return out, nil
}

// NamedIn returns the names of the networks of all accounts, by the providers' IDs, with those of
// one that was just read.
func NamedIn(now *view.Snapshot, networks map[string]string) map[string]string {
	out := maps.Clone(networks)
	for i := range now.Known {
		if k := &now.Known[i]; k.Kind == inventory.NetworkKind && !k.Gone && out[k.ID] == "" {
			out[k.ID] = k.Name
		}
	}
	return out
}

// manages reports whether Bivium has written anything to an account.
func (a *App) manages(ctx context.Context, account string) (bool, error) {
	written, err := a.Store.WrittenDocuments(ctx)
	if err != nil {
		return false, err
	}
	return slices.ContainsFunc(written, func(name string) bool { return plan.AccountOf(name) == account }), nil
}

func plain(name string) string { return strings.ReplaceAll(strings.ToLower(name), " ", "-") }
