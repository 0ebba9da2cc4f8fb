package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"bivium/core/estate"
	"bivium/core/inventory"
	"bivium/internal/app/view"
	"bivium/internal/drivers"
	"bivium/internal/drivers/call"
	"bivium/internal/drivers/providers"
	"bivium/internal/store"
	"bivium/internal/vault"
)

// Connection is how a user wants an account to be reached.
type Connection struct {
	Name     string `json:"name"` // in the estate
	Provider string `json:"provider"`
	Endpoint string `json:"endpoint"`
	Account  string `json:"account"` // as the provider calls it
	Key      string `json:"key"`
	Secret   string `json:"secret"`
}

// AccountView is an account as a user sees it. The credential is not in it.
type AccountView struct {
	Name      string       `json:"name"`
	Provider  string       `json:"provider"`
	Observed  bool         `json:"observed"`
	Endpoint  string       `json:"endpoint"` // "" where it is not connected
	Remote    string       `json:"remote"`
	Networks  int          `json:"networks"`
	Workloads int          `json:"workloads"`
	Reading   *ReadingView `json:"reading"` // the last one, or the one that runs; null for none
	Gone      bool         `json:"gone"`    // it is not in the estate any more; its credential is kept, and not used
}

// credential is what is sealed.
type credential struct {
	Key    string `json:"key"`
	Secret string `json:"secret"`
}

// check returns what is wrong with a connection, each at its field.
func (c *Connection) check() view.Problems {
	var problems view.Problems
	add := func(at, message, fix string) {
		problems = append(problems, view.Problem{At: at, Message: message, Fix: fix})
	}
	if err := estate.CheckName(c.Name); err != nil {
		add("name", err.Error(), "use a short name in lower case, such as north")
	}
	if !slices.Contains(providers.Names(), c.Provider) {
		add("provider", fmt.Sprintf("there is no driver for %q", c.Provider), fmt.Sprintf("choose one of %v", providers.Names()))
	}
	if _, err := call.CheckEndpoint(c.Endpoint); err != nil {
		add("endpoint", err.Error(), "")
	}
	if c.Provider == "cirra" && c.Account == "" {
		add("account", "this provider needs the name of the account", "enter the account name used by the provider")
	}
	if c.Secret == "" {
		add("secret", "the secret is missing", "enter the token or secret issued by the provider")
	}
	return problems
}

// Connect stores how an account is reached, once the provider has accepted the
// credential, and puts the account into the estate if it is not there.
func (a *App) Connect(ctx context.Context, c Connection, actor string) (*AccountView, error) {
	if problems := c.check(); len(problems) > 0 {
		return nil, problems
	}
	endpoint, err := call.CheckEndpoint(c.Endpoint)
	if err != nil {
		return nil, &view.Problem{At: "endpoint", Message: err.Error(), Fix: ""}
	}
	c.Endpoint = endpoint.String()
	d, err := a.Dial(c.Provider, drivers.Access{Endpoint: c.Endpoint, Account: c.Account, Key: c.Key, Secret: c.Secret})
	if err != nil {
		return nil, &view.Problem{At: "endpoint", Message: err.Error(), Fix: ""}
	}
	if err := try(ctx, d); err != nil {
		return nil, connectProblem(err)
	}
	plain, err := json.Marshal(credential{c.Key, c.Secret})
	if err != nil {
		return nil, err
	}
	if err := a.addAccount(ctx, c, actor); err != nil {
		return nil, err
	}
	source := store.Source{Account: c.Name, Provider: c.Provider, Endpoint: c.Endpoint, Remote: c.Account}
	source.Sealed = a.Vault.Seal(useOf(&source), plain)
	if err := a.Store.PutSource(ctx, &source); err != nil {
		return nil, err
	}
	return a.account(ctx, c.Name)
}

// Reseal seals the credential of an account, which was sealed by one vault, by another.
func Reseal(o *store.Source, from, to *vault.Vault) ([]byte, error) {
	plain, err := from.Open(useOf(o), o.Sealed)
	if err != nil {
		return nil, err
	}
	return to.Seal(useOf(o), plain), nil
}

// useOf returns what the credential of an account is sealed for.
func useOf(s *store.Source) vault.Use {
	return vault.Use{Account: s.Account, Provider: s.Provider, Endpoint: s.Endpoint}
}

// patience is how long a user waits for a provider.
const patience = 20 * time.Second

// try asks a provider something, to see whether it answers and accepts the
// credential.
func try(ctx context.Context, d drivers.Driver) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	_, err := d.Health(ctx)
	if errors.Is(err, context.DeadlineExceeded) {
		return fmt.Errorf("%w within %s", drivers.ErrUnreachable, patience)
	}
	return err
}

// Disconnect forgets how an account is reached, with its credential. What was read
// stays in the estate. An account that is neither there nor connected is store.ErrNotFound.
func (a *App) Disconnect(ctx context.Context, account string) error {
	if _, err := a.account(ctx, account); err != nil {
		return err
	}
	a.StopReading(account)
	a.reading.mu.Lock()
	r := a.reading.runs[account]
	a.reading.mu.Unlock()
	if r != nil {
		<-r.done
	}
	return a.Store.DropSource(ctx, account)
}

// connectProblem puts what kept an account from being reached at its field.
func connectProblem(err error) error {
	switch {
	case errors.Is(err, drivers.ErrCredential):
		return &view.Problem{At: "secret", Message: "the provider rejected the credential", Fix: "check that it belongs to this account and has not expired"}
	case errors.Is(err, drivers.ErrMissing):
		return &view.Problem{At: "account", Message: "the provider does not know this account", Fix: "enter the account name used by the provider"}
	case errors.Is(err, drivers.ErrUnreachable):
		return &view.Problem{At: "endpoint", Message: "no answer from this address: " + err.Error(), Fix: "check the address and that it can be reached from here"}
	}
	return &view.Problem{At: "endpoint", Message: err.Error(), Fix: "check that this is the address of the provider's API"}
}

func (a *App) addAccount(ctx context.Context, c Connection, actor string) error {
	return a.advance(ctx, &step{what: store.Edit, actor: actor, based: current, plan: leadsTo(func(now *view.Snapshot) (*estate.Estate, error) {
		for _, had := range now.Estate.Accounts {
			if had.Name == c.Name && had.Provider != c.Provider {
				return nil, &view.Problem{At: "name", Message: fmt.Sprintf("account %s belongs to provider %s", c.Name, had.Provider), Fix: "choose another name, or select that provider"}
			}
			if had.Name == c.Name {
				return now.Estate, nil
			}
		}
		next := *now.Estate
		next.Accounts = append(slices.Clip(next.Accounts), estate.Account{Name: c.Name, Provider: c.Provider})
		return &next, nil
	})})
}

// Accounts returns all accounts, connected or not, by name, and those whose credential
// is kept though they are not in the estate any more.
func (a *App) Accounts(ctx context.Context) ([]AccountView, error) {
	a.moves.RLock() // a reading that is done, with what it found
	defer a.moves.RUnlock()
	sources, err := a.Store.Sources(ctx)
	if err != nil {
		return nil, err
	}
	now := a.Now()
	out := []AccountView{}
	at := map[string]int{}
	for _, x := range now.Estate.Accounts {
		at[x.Name] = len(out)
		out = append(out, AccountView{Name: x.Name, Provider: x.Provider, Observed: x.Observed})
	}
	for _, s := range sources {
		if s.Provider == hubsProvider {
			continue
		}
		i, ok := at[s.Account]
		if !ok {
			i = len(out)
			at[s.Account] = i
			out = append(out, AccountView{Name: s.Account, Provider: s.Provider, Gone: true})
		}
		out[i].Endpoint, out[i].Remote = s.Endpoint, s.Remote
	}
	of := make(map[string]string, len(now.Estate.Networks))
	for i := range now.Estate.Networks {
		n := &now.Estate.Networks[i]
		of[n.Name] = n.Account
		if k, ok := at[n.Account]; ok {
			out[k].Networks++
		}
	}
	for i := range now.Estate.Workloads {
		w := &now.Estate.Workloads[i]
		account := w.Account
		if account == "" {
			account = of[w.Network]
		}
		if k, ok := at[account]; ok {
			out[k].Workloads++
		}
	}
	for i := range out {
		if out[i].Reading, err = a.lastReading(ctx, out[i].Name); err != nil {
			return nil, err
		}
	}
	slices.SortFunc(out, func(a, b AccountView) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

func (a *App) account(ctx context.Context, name string) (*AccountView, error) {
	all, err := a.Accounts(ctx)
	if err != nil {
		return nil, err
	}
	for i := range all {
		if all[i].Name == name {
			return &all[i], nil
		}
	}
	return nil, fmt.Errorf("account %q: %w", name, store.ErrNotFound)
}

// access returns how a connected account is reached, with its credential.
func (a *App) access(ctx context.Context, account string) (provider string, access drivers.Access, err error) {
	sources, err := a.Store.Sources(ctx)
	if err != nil {
		return "", drivers.Access{}, err
	}
	for _, s := range sources {
		if s.Account != account {
			continue
		}
		if !hasAccount(a.Now(), account) {
			return "", drivers.Access{}, &view.Problem{At: "account", Message: fmt.Sprintf("account %s is no longer in the estate, so it is not synced", account), Fix: "remove its credential, or connect it again"}
		}
		plain, err := a.Vault.Open(useOf(&s), s.Sealed)
		if err != nil {
			return "", drivers.Access{}, &view.Problem{At: "secret", Message: err.Error(), Fix: ""}
		}
		var c credential
		if err := json.Unmarshal(plain, &c); err != nil {
			return "", drivers.Access{}, err
		}
		return s.Provider, drivers.Access{Endpoint: s.Endpoint, Account: s.Remote, Key: c.Key, Secret: c.Secret}, nil
	}
	return "", drivers.Access{}, &view.Problem{At: "account", Message: fmt.Sprintf("account %s is not connected", account), Fix: "connect it first"}
}

func hasAccount(s *view.Snapshot, name string) bool {
	return slices.ContainsFunc(s.Estate.Accounts, func(a estate.Account) bool { return a.Name == name })
}

// driver returns the driver of a connected account, and who its provider is.
func (a *App) driver(ctx context.Context, account string) (provider string, d drivers.Driver, err error) {
	provider, access, err := a.access(ctx, account)
	if err != nil {
		return "", nil, err
	}
	d, err = a.Dial(provider, access)
	return provider, d, err
}

// NativeRules asks the account of a network for the rules that its provider has
// there now.
func (a *App) NativeRules(ctx context.Context, network string) ([]drivers.RuleList, error) {
	known := a.Now().Known
	for i := range known {
		k := &known[i]
		if k.Kind != inventory.NetworkKind || k.Name != network {
			continue
		}
		_, d, err := a.driver(ctx, k.Account)
		if err != nil {
			return nil, err
		}
		ctx, cancel := context.WithTimeout(ctx, patience)
		defer cancel()
		native, err := d.Native(ctx, []string{k.ID})
		if errors.Is(err, drivers.ErrMissing) {
			return nil, &view.Problem{At: "network", Message: "the provider no longer has this network", Fix: "sync its account"}
		}
		if err != nil {
			return nil, connectProblem(err)
		}
		return a.rulesIn(native, k), nil
	}
	return nil, &view.Problem{At: "network", Message: fmt.Sprintf("no synced account has a network %s", network), Fix: "sync its account first"}
}

// rulesIn returns the rules of a network that a provider has, to be read: those of its lists, or
// of those that its workloads bear.
func (a *App) rulesIn(native *drivers.Native, network *inventory.Known) []drivers.RuleList {
	out := []drivers.RuleList{}
	for i := range native.Lists {
		out = append(out, native.Lists[i].Words())
	}
	borne := map[string]bool{}
	here := map[string]bool{}
	for i := range a.Now().Estate.Workloads {
		if w := &a.Now().Estate.Workloads[i]; w.Network == network.Name {
			here[w.Name] = true
		}
	}
	for _, k := range a.Now().Known {
		if k.Kind != inventory.WorkloadKind || k.Account != network.Account || !here[k.Name] {
			continue
		}
		for _, b := range native.Bindings {
			if b.Workload == k.ID {
				for _, l := range b.Lists {
					borne[l] = true
				}
			}
		}
	}
	for i := range native.Entries {
		if l := &native.Entries[i]; borne[l.Name] {
			out = append(out, l.Words())
		}
	}
	return out
}

// Health asks a connected account for the state of what its provider runs.
func (a *App) Health(ctx context.Context, account string) ([]drivers.Health, error) {
	_, d, err := a.driver(ctx, account)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	states, err := d.Health(ctx)
	if err != nil {
		return nil, connectProblem(err)
	}
	return append([]drivers.Health{}, states...), nil
}
