package applying

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"bivium/core/inventory"
	"bivium/core/native/config"
	"bivium/core/native/plan"
	"bivium/internal/app"
	"bivium/internal/app/targets"
	"bivium/internal/drivers"
)

// held is what targets hold now.
type held struct {
	bodies   map[plan.Key]*plan.Body
	versions map[plan.Key]string
	by       map[plan.Key][]string       // who wrote what, rule by rule, where the provider knows
	read     map[string]*targets.Reading // by account
	problems map[string]string           // by target: why it could not be read
}

// read reads what all connected targets hold of some documents.
func (s *Service) read(ctx context.Context, keys []plan.Key, connected map[string]bool) (*held, error) {
	h := &held{map[plan.Key]*plan.Body{}, map[plan.Key]string{}, map[plan.Key][]string{}, map[string]*targets.Reading{}, map[string]string{}}
	readings, err := s.app.ReadTargets(ctx)
	if err != nil {
		return nil, err
	}
	for i := range readings {
		r := &readings[i]
		if r.Native == nil {
			h.problems[r.Account] = r.Problem
			continue
		}
		h.read[r.Account] = r
		h.account(r)
	}
	if connected[plan.Hubs] {
		s.readHubs(ctx, h, keys)
	}
	return h, nil
}

// hubPatience is how long the hubs are waited for.
const hubPatience = 20 * time.Second

func (s *Service) readHubs(ctx context.Context, h *held, keys []plan.Key) {
	ctx, cancel := context.WithTimeout(ctx, hubPatience)
	defer cancel()
	d, err := s.app.Hubs(ctx)
	if err != nil {
		h.problems[plan.Hubs] = err.Error()
		return
	}
	held, err := d.All(ctx, slices.DeleteFunc(slices.Clone(keys), func(k plan.Key) bool { return k.Target() != plan.Hubs }))
	if err != nil {
		h.problems[plan.Hubs] = reason(err)
		return
	}
	for key, is := range held {
		h.bodies[key], h.versions[key] = is.Body, is.Version
	}
}

// account takes in what was read of an account.
func (h *held) account(r *targets.Reading) {
	for i := range r.Native.Lists {
		l := &r.Native.Lists[i]
		if name := r.Networks[l.Network]; name != "" {
			h.put(plan.Key{Kind: plan.KindList, Account: r.Account, Name: name, On: l.On}, &plan.Body{List: &l.List}, l.Version, l.By)
		}
	}
	for i := range r.Native.Tables {
		t := &r.Native.Tables[i]
		if name := r.Networks[t.Network]; name != "" {
			h.put(plan.Key{Kind: plan.KindRoutes, Account: r.Account, Name: name}, &plan.Body{Routes: targets.RoutesOf(t.Routes, r.Named), Peers: targets.PeersOf(t.Peers, r.Named)}, t.Version, nil)
		}
	}
	for i := range r.Native.Entries {
		l := &r.Native.Entries[i]
		h.put(plan.Key{Kind: plan.KindEntries, Account: r.Account, On: l.Name}, &plan.Body{Entries: &l.EntryList}, l.Version, l.By)
	}
	for _, b := range r.Native.Bindings {
		name := ""
		if b.Workload != "" {
			if name = r.Workloads[b.Workload]; name == "" {
				continue
			}
		}
		h.put(plan.Key{Kind: plan.KindBinding, Account: r.Account, On: name}, &plan.Body{Bears: b.Lists}, b.Version, nil)
	}
}

func (h *held) put(key plan.Key, body *plan.Body, version string, by []string) {
	h.bodies[key], h.versions[key], h.by[key] = body, version, by
}

// target writes to one target, and reads back.
type target interface {
	// put replaces a document that is of a version, or removes it, and returns its next version.
	put(ctx context.Context, key plan.Key, version string, body *plan.Body) (string, error)
	// get returns what a document holds now, with its version; nil where it is not there.
	get(ctx context.Context, key plan.Key) (*plan.Body, string, error)
}

// open returns a target.
func (s *Service) open(ctx context.Context, name string) (target, error) {
	if name == plan.Hubs {
		d, err := s.app.Hubs(ctx)
		if err != nil {
			return nil, err
		}
		return &hubTarget{d}, nil
	}
	d, err := s.app.Driver(ctx, name)
	if err != nil {
		return nil, err
	}
	names, err := app.NamesIn(ctx, d, s.app.Now(), name)
	if err != nil {
		return nil, err
	}
	t := &account{Driver: d, name: name, names: names, named: app.NamedIn(s.app.Now(), names.Networks), ids: map[string]string{}}
	for id, network := range t.named {
		t.ids["network "+network] = id
	}
	for id, workload := range names.Workloads {
		t.ids["workload "+workload] = id
	}
	return t, nil
}

// account is a target that is an account of a cloud, or the premises.
type account struct {
	drivers.Driver
	mu    sync.Mutex
	name  string
	names *app.Names
	named map[string]string // networks by ID, of other accounts too
	ids   map[string]string // by kind and name
}

func (t *account) put(ctx context.Context, key plan.Key, version string, body *plan.Body) (string, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	p := &drivers.Put{Version: version}
	what := ""
	switch key.Kind {
	case plan.KindList, plan.KindRoutes:
		what, p.Network = "network "+key.Name, t.ids["network "+key.Name]
	case plan.KindBinding:
		if key.On != "" {
			what, p.Workload = "workload "+key.On, t.ids["workload "+key.On]
		}
	}
	if what != "" && t.ids[what] == "" {
		return "", fmt.Errorf("%s: %w", what, drivers.ErrMissing)
	}
	switch {
	case body == nil && key.Kind == plan.KindEntries:
		p.Entries, p.Remove = &config.EntryList{Name: key.On}, true
	case body == nil && key.Kind == plan.KindBinding:
		p.Remove = true
	case body == nil:
		return "", fmt.Errorf("%s cannot be removed", key)
	case key.Kind == plan.KindList:
		list := *body.List
		list.On = t.names.There(p.Network, list.On)
		p.List = &list
	case key.Kind == plan.KindEntries:
		p.Entries = body.Entries
	case key.Kind == plan.KindBinding:
		p.Bears = append([]string{}, body.Bears...)
	case key.Kind == plan.KindRoutes:
		p.Table = []inventory.Route{}
		for _, r := range body.Routes {
			via := string(r.Via)
			if name, peer := strings.CutPrefix(via, "peer:"); peer && t.ids["network "+name] != "" {
				via = "peer:" + t.ids["network "+name]
			}
			p.Table = append(p.Table, inventory.Route{To: r.To, Via: via})
		}
		for _, x := range body.Peers {
			id := t.ids["network "+x.Name]
			if id == "" {
				return "", fmt.Errorf("network %s, a peer of %s: %w", x.Name, key.Name, drivers.ErrMissing)
			}
			p.Peers = append(p.Peers, drivers.Peer{Network: id, OffersHub: x.OffersHub})
		}
	}
	return t.Put(ctx, p)
}

func (t *account) get(ctx context.Context, key plan.Key) (*plan.Body, string, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	var networks []string
	if key.Name != "" {
		id := t.ids["network "+key.Name]
		if id == "" {
			return nil, "", fmt.Errorf("network %s: %w", key.Name, drivers.ErrMissing)
		}
		networks = []string{id}
	}
	native, err := t.read(ctx, key, networks)
	if err != nil {
		return nil, "", err
	}
	t.names.Read(native)
	h := &held{bodies: map[plan.Key]*plan.Body{}, versions: map[plan.Key]string{}, by: map[plan.Key][]string{}}
	h.account(&targets.Reading{Account: t.name, Native: native, Networks: t.names.Networks, Named: t.named, Workloads: t.names.Workloads})
	return h.bodies[key], h.versions[key], nil
}

// read reads a document, with as few others as the provider can be asked for.
func (t *account) read(ctx context.Context, key plan.Key, networks []string) (*drivers.Native, error) {
	one, ok := t.Driver.(drivers.Single)
	if !ok {
		return t.Native(ctx, networks)
	}
	p := &drivers.Put{}
	switch key.Kind {
	case plan.KindEntries:
		p.Entries = &config.EntryList{Name: key.On}
	case plan.KindRoutes:
		p.Table = []inventory.Route{}
	case plan.KindBinding:
		if p.Workload = t.ids["workload "+key.On]; key.On != "" && p.Workload == "" {
			return &drivers.Native{}, nil // what is gone bears nothing
		}
	default:
		return t.Native(ctx, networks)
	}
	return one.One(ctx, p)
}

// hubTarget is the hubs and their firewalls.
type hubTarget struct {
	d interface {
		Put(ctx context.Context, key plan.Key, version string, body *plan.Body) (string, error)
		Get(ctx context.Context, key plan.Key) (*plan.Body, string, error)
	}
}

func (t *hubTarget) put(ctx context.Context, key plan.Key, version string, body *plan.Body) (string, error) {
	return t.d.Put(ctx, key, version, body)
}

func (t *hubTarget) get(ctx context.Context, key plan.Key) (*plan.Body, string, error) {
	return t.d.Get(ctx, key)
}

// reason says why a target could not be read or written, in words.
func reason(err error) string {
	var limit *drivers.LimitError
	switch {
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, drivers.ErrUnreachable):
		return "it does not answer"
	case errors.Is(err, drivers.ErrCredential):
		return "it rejected the credential"
	case errors.Is(err, drivers.ErrMissing):
		return "the network or workload does not exist there"
	case errors.Is(err, drivers.ErrChanged):
		return "it was changed by someone else after the plan was made"
	case errors.As(err, &limit):
		return limit.Error()
	}
	return err.Error()
}
