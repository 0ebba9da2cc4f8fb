package targets

import (
	"slices"
	"strings"
	"time"

	"bivium/core/classes"
	"bivium/core/native/config"
	"bivium/core/native/proof"
	"bivium/core/native/proposal"
	"bivium/core/space"
	"bivium/core/trace"
	"bivium/internal/app/view"
	"bivium/internal/wording"
)

// Observed is what the lists of accounts that are observed only really do, beside what policies
// intend.
type Observed struct {
	Revision   int64             `json:"revision"`
	Accounts   []ObservedAccount `json:"accounts"`
	Flows      []ObservedFlows   `json:"flows"`      // where the two differ; none where they are proven to be the same
	Cells      []ObservedCell    `json:"cells"`      // of the board, in which they differ
	Incomplete bool              `json:"incomplete"` // of a segment nothing is known: its lists tell too much apart
}

// ObservedAccount is an account that is observed only, as it was read.
type ObservedAccount struct {
	Account  string    `json:"account"`
	Provider string    `json:"provider"`
	At       time.Time `json:"at"`
	Problem  string    `json:"problem"` // why nothing is known of it; "" if it was read
	Lists    int       `json:"lists"`
	Rules    int       `json:"rules"`
	Networks []string  `json:"networks"`
}

// ObservedFlows is flows inside a segment, or from it to the internet, that lists pass and
// policies deny, or the other way round.
type ObservedFlows struct {
	Segment  string            `json:"segment"`
	Passes   bool              `json:"passes"` // lists pass them, and policies deny them
	From     ObservedSide      `json:"from"`
	To       ObservedSide      `json:"to"`
	Services view.ServiceWords `json:"services"`
	Witness  view.Witness      `json:"witness"`
	Says     []wording.Token   `json:"says"` // what comes of the witness, and by which rule
}

// ObservedSide is one side of flows: the name of a group that holds it, or that would, and then
// what that group consists of.
type ObservedSide struct {
	Name  string   `json:"name"`
	Parts []string `json:"parts"` // none of a group that there is
}

// ObservedCell is a cell of the board in which lists do something else than policies intend.
type ObservedCell struct {
	Row    string             `json:"row"`
	Col    string             `json:"col"`
	Passes *view.ServiceWords `json:"passes"` // services that lists pass and policies deny, for some of the flows; null for none
	Stops  *view.ServiceWords `json:"stops"`  // services that lists stop and policies allow or inspect; null for none
}

// Observations compares what the lists of observed accounts do with what policies intend. Accounts
// that could not be read, and those that are not observed, are left out. Cost: see
// proof.Observe.
func (b *Book) Observations(readings []Reading) []*proof.Observation {
	found, observed := b.observed(readings)
	if len(observed) == 0 {
		return nil
	}
	return proof.Observe(b.now.Matrix, found, func(network string) bool { return observed[network] })
}

// observed returns the configuration with what observed accounts were read to hold, and their networks.
func (b *Book) observed(readings []Reading) (*config.Config, map[string]bool) {
	meant := b.translated().Config
	found := *meant
	found.Networks, found.Accounts = slices.Clone(meant.Networks), slices.Clone(meant.Accounts)
	networks := map[string]bool{}
	for i := range readings {
		r := &readings[i]
		if r.Native == nil || !b.now.Estate.Observes(r.Account) {
			continue
		}
		put(&found, meant, r)
		putEntries(&found, meant, r)
		for k := range found.Networks {
			if found.Networks[k].Account == r.Account {
				networks[found.Networks[k].Name] = true
			}
		}
	}
	return &found, networks
}

// Observed returns what was read of observed accounts beside what policies intend, with the cells
// of a board that has some segments open.
func (b *Book) Observed(readings []Reading, open []string) *Observed {
	out := &Observed{Revision: b.now.Revision, Accounts: []ObservedAccount{}, Flows: []ObservedFlows{}, Cells: []ObservedCell{}}
	for i := range readings {
		if r := &readings[i]; b.now.Estate.Observes(r.Account) {
			out.Accounts = append(out.Accounts, b.observedAccount(r))
		}
	}
	slices.SortFunc(out.Accounts, func(a, b ObservedAccount) int { return strings.Compare(a.Account, b.Account) })
	namer := proposal.NewNamer(b.now.Matrix)
	cells := b.newCells(open)
	for _, o := range b.Observations(readings) {
		out.Incomplete = out.Incomplete || o.Incomplete
		for _, r := range proposal.Relations(o) {
			flows := ObservedFlows{Segment: r.Segment, Passes: r.Passes, Services: b.now.Words(r.Services), Witness: b.now.WitnessOf(r.Witness)}
			t := trace.Of(b.now.Judge, r.Witness)
			flows.Says = wording.Sentence(&t)
			for side, units := range map[*ObservedSide][]int{&flows.From: r.From, &flows.To: r.To} {
				side.Name, side.Parts = namer.Describe(o.Segment, proposal.AddressesOf(o, units))
			}
			out.Flows = append(out.Flows, flows)
			cells.add(o, &r)
		}
	}
	out.Cells = cells.list()
	return out
}

func (b *Book) observedAccount(r *Reading) ObservedAccount {
	a := ObservedAccount{Account: r.Account, Provider: r.Provider, At: r.At, Problem: r.Problem, Networks: []string{}}
	for i := range b.now.Estate.Networks {
		if n := &b.now.Estate.Networks[i]; n.Account == r.Account {
			a.Networks = append(a.Networks, n.Name)
		}
	}
	if r.Native != nil {
		a.Lists = len(r.Native.Lists) + len(r.Native.Entries)
		for i := range r.Native.Lists {
			a.Rules += len(r.Native.Lists[i].Rules)
		}
		for i := range r.Native.Entries {
			a.Rules += len(r.Native.Entries[i].Entries)
		}
	}
	return a
}

// cells gathers the services of cells.
type cells struct {
	now   *view.Snapshot
	nodes map[*classes.Class][]int // the rows that have a class
	ids   []string
	found map[[2]int]*[2][]space.Box // of what passes, and of what is stopped
}

func (b *Book) newCells(open []string) *cells {
	c := &cells{now: b.now, nodes: map[*classes.Class][]int{}, found: map[[2]int]*[2][]space.Box{}}
	for i, n := range b.now.NodesOf(open) {
		c.ids = append(c.ids, view.NodeID(n))
		for _, k := range b.now.Matrix.ClassesOf(n) {
			x := b.now.Matrix.Classes[k]
			c.nodes[x] = append(c.nodes[x], i)
		}
	}
	return c
}

func (c *cells) add(o *proof.Observation, r *proposal.Relation) {
	which := 1
	if r.Passes {
		which = 0
	}
	for _, row := range c.of(o, r.From) {
		for _, col := range c.of(o, r.To) {
			x := c.found[[2]int{row, col}]
			if x == nil {
				x = &[2][]space.Box{}
				c.found[[2]int{row, col}] = x
			}
			x[which] = append(x[which], r.Services.Boxes()...)
		}
	}
}

// of returns the rows that have some units.
func (c *cells) of(o *proof.Observation, units []int) []int {
	var out []int
	for _, u := range units {
		for _, x := range o.Units[u].Classes {
			out = append(out, c.nodes[x]...)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func (c *cells) list() []ObservedCell {
	out := []ObservedCell{}
	for at, x := range c.found {
		out = append(out, ObservedCell{c.ids[at[0]], c.ids[at[1]], c.words(x[0]), c.words(x[1])})
	}
	slices.SortFunc(out, func(a, b ObservedCell) int { return strings.Compare(a.Row+" "+a.Col, b.Row+" "+b.Col) })
	return out
}

func (c *cells) words(boxes []space.Box) *view.ServiceWords {
	if len(boxes) == 0 {
		return nil
	}
	words := c.now.Words(space.Of(boxes))
	return &words
}

// Propose returns the edit that makes policies say what the lists of observed accounts do, and
// for what accounts it speaks.
func (b *Book) Propose(readings []Reading) (*proposal.Proposal, []string, error) {
	var names []string
	for i := range readings {
		if r := &readings[i]; r.Native != nil && b.now.Estate.Observes(r.Account) {
			names = append(names, r.Account)
		}
	}
	slices.Sort(names)
	p, err := proposal.Write(b.now.Matrix, b.Observations(readings), "What the lists of "+strings.Join(names, ", ")+" do")
	return p, names, err
}
