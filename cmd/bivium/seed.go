package main

import (
	"context"
	"fmt"

	"bivium/core/estate"
	"bivium/core/native"
	"bivium/core/native/config"
	"bivium/core/native/plan"
	"bivium/internal/app"
	"bivium/internal/app/view"
	"bivium/internal/drivers"
	"bivium/internal/drivers/call"
	"bivium/internal/drivers/hubs"
	"bivium/internal/drivers/providers"
	"bivium/internal/standin"
)

// holdAll lets the simulated clouds and sites hold what an estate says, as if it had been applied
// long ago, and then what somebody wrote by hand.
func holdAll(ctx context.Context, world *standin.World, running *standin.Running, e *estate.Estate) error {
	now := view.NewSnapshot(e, 0)
	cfg := native.Translate(now.Matrix).Config
	for name, c := range world.Credentials() {
		d, err := providers.Open(c[0], drivers.Access{Endpoint: running.Endpoints[c[0]], Account: name, Key: c[1], Secret: c[2]}, nil)
		if err != nil {
			return err
		}
		if err := holdIn(ctx, d, now, cfg, name); err != nil {
			return fmt.Errorf("write the lists of the demo account %s: %w", name, err)
		}
	}
	if err := holdAtHubs(ctx, running, e, cfg); err != nil {
		return fmt.Errorf("write to the hubs of the demo: %w", err)
	}
	return world.Plant()
}

// holdAtHubs writes what hubs and firewalls hold.
func holdAtHubs(ctx context.Context, running *standin.Running, e *estate.Estate, cfg *config.Config) error {
	c, err := call.New(running.Hubs)
	if err != nil {
		return err
	}
	d := hubs.New(drivers.Access{Secret: running.HubToken()}, c)
	for key, body := range plan.Documents(plan.State{Config: cfg, Estate: e}) {
		if key.Target() != plan.Hubs {
			continue
		}
		if _, err := d.Put(ctx, key, "", body); err != nil {
			return err
		}
	}
	return nil
}

// holdIn writes all lists of one account.
func holdIn(ctx context.Context, d drivers.Driver, now *view.Snapshot, cfg *config.Config, account string) error {
	names, err := app.NamesIn(ctx, d, now, account)
	if err != nil {
		return err
	}
	ids := map[string]string{}
	for id, name := range names.Networks {
		ids[name] = id
	}
	for id, name := range names.Workloads {
		ids["workload "+name] = id
	}
	for i := range cfg.Networks {
		n := &cfg.Networks[i]
		if n.Account != account || ids[n.Name] == "" {
			continue
		}
		for k := range n.Lists {
			list := n.Lists[k]
			list.On = names.There(ids[n.Name], list.On)
			if _, err := d.Put(ctx, &drivers.Put{Network: ids[n.Name], List: &list}); err != nil {
				return fmt.Errorf("network %s: %w", n.Name, err)
			}
		}
	}
	for i := range cfg.Accounts {
		if a := &cfg.Accounts[i]; a.Name == account {
			if err := holdEntries(ctx, d, a, ids); err != nil {
				return err
			}
		}
	}
	return nil
}

func holdEntries(ctx context.Context, d drivers.Driver, a *config.Account, ids map[string]string) error {
	for i := range a.Lists {
		if a.Lists[i].Name == "default" {
			continue // it is there, and passes nothing
		}
		if _, err := d.Put(ctx, &drivers.Put{Entries: &a.Lists[i]}); err != nil {
			return fmt.Errorf("list %s: %w", a.Lists[i].Name, err)
		}
	}
	for _, b := range a.Bindings {
		if id := ids["workload "+b.Workload]; id != "" {
			if _, err := d.Put(ctx, &drivers.Put{Workload: id, Bears: b.Lists}); err != nil {
				return fmt.Errorf("machine %s: %w", b.Workload, err)
			}
		}
	}
	return nil
}
