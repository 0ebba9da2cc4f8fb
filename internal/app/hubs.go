package app

import (
	"context"
	"encoding/json"
	"errors"
	"maps"

	"bivium/core/inventory"
	"bivium/core/native/plan"
	"bivium/internal/app/view"
	"bivium/internal/drivers"
	"bivium/internal/drivers/call"
	"bivium/internal/drivers/hubs"
	"bivium/internal/store"
)

// The hubs and firewalls of an estate are reached together, under a name that no account can have.
const (
	hubsProvider = "hubs"
	hubsAccount  = "(hubs)"
)

// ErrNotConnected is returned where nothing says how a target is reached.
var ErrNotConnected = errors.New("the target is not connected")

// ConnectHubs stores how hubs and firewalls are reached, once they have accepted the token.
func (a *App) ConnectHubs(ctx context.Context, endpoint, token string) error {
	checked, err := call.CheckEndpoint(endpoint)
	if err != nil {
		return &view.Problem{At: "endpoint", Message: err.Error(), Fix: ""}
	}
	d, err := dialHubs(checked.String(), token)
	if err != nil {
		return &view.Problem{At: "endpoint", Message: err.Error(), Fix: ""}
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	if _, _, err := d.Get(ctx, plan.Key{Kind: plan.KindPlacement, Name: "all"}); err != nil {
		return connectProblem(err)
	}
	plain, err := json.Marshal(credential{"", token})
	if err != nil {
		return err
	}
	source := store.Source{Account: hubsAccount, Provider: hubsProvider, Endpoint: checked.String()}
	source.Sealed = a.Vault.Seal(useOf(&source), plain)
	return a.Store.PutSource(ctx, &source)
}

func dialHubs(endpoint, token string) (*hubs.Driver, error) {
	c, err := call.New(endpoint)
	if err != nil {
		return nil, err
	}
	return hubs.New(drivers.Access{Endpoint: endpoint, Secret: token}, c), nil
}

// Hubs returns the driver of the hubs and firewalls; ErrNotConnected if they are not.
func (a *App) Hubs(ctx context.Context) (*hubs.Driver, error) {
	sources, err := a.Store.Sources(ctx)
	if err != nil {
		return nil, err
	}
	for i := range sources {
		if s := &sources[i]; s.Provider == hubsProvider {
			plain, err := a.Vault.Open(useOf(s), s.Sealed)
			if err != nil {
				return nil, err
			}
			var c credential
			if err := json.Unmarshal(plain, &c); err != nil {
				return nil, err
			}
			d, err := dialHubs(s.Endpoint, c.Secret)
			if err == nil {
				d.Networks = hubs.NetworksOf(networkIDs(a.Now()))
			}
			return d, err
		}
	}
	return nil, ErrNotConnected
}

// networkIDs returns the IDs of the networks that accounts have, by their names in the estate, but for
// IDs that two accounts have.
func networkIDs(now *view.Snapshot) map[string]string {
	out, twice := map[string]string{}, map[string]int{}
	for i := range now.Known {
		if k := &now.Known[i]; k.Kind == inventory.NetworkKind && !k.Gone {
			out[k.Name] = k.ID
			twice[k.ID]++
		}
	}
	maps.DeleteFunc(out, func(_, id string) bool { return twice[id] > 1 })
	return out
}

// Driver returns the driver of a connected account; ErrNotConnected if it is not.
func (a *App) Driver(ctx context.Context, account string) (drivers.Driver, error) {
	_, d, err := a.driver(ctx, account)
	return d, err
}
