// Package drivers is how Bivium speaks with the outside world: one interface,
// and one package beside this one for each provider. How to add one is in
// docs/drivers.md; package conformance holds what every driver must do.
package drivers

import (
	"context"
	"errors"
	"fmt"

	"bivium/core/inventory"
	"bivium/core/native/config"
)

// Driver reads one account. It is used by one reader at a time.
type Driver interface {
	// Page returns the part of the inventory that begins at a cursor; the empty
	// one is the beginning. Cursors stay good for as long as the provider lets
	// them, longer than the driver lives: a reading that was cut off goes on at
	// the last. Networks come before the workloads that live in them.
	Page(ctx context.Context, cursor string) (*Page, error)
	// Native returns the lists that the provider has on some networks and what lives in them, as
	// they are now, each with its version; ErrMissing if there is no such network.
	Native(ctx context.Context, networks []string) (*Native, error)
	// Put replaces one list, or the lists that one workload bears, and returns the version that it
	// has from then on: it is in force. ErrChanged if it is not of the version that its writer saw
	// any more, and a LimitError if the provider takes no list of that size.
	Put(ctx context.Context, p *Put) (version string, err error)
	// Health returns the state of what the provider runs for the account.
	Health(ctx context.Context) ([]Health, error)
}

// Single is a driver of a provider that is asked about whole accounts, and can be asked about one
// document as well.
type Single interface {
	// One returns what is held of the document that p would write, and of no other; nothing where
	// it is not there.
	One(ctx context.Context, p *Put) (*Native, error)
}

// Page is a part of an inventory.
type Page struct {
	Networks  []inventory.Network
	Workloads []inventory.Workload
	Notes     []string // what was left out, and why
	Next      string   // the cursor of the next page; "" after the last
	Total     int      // networks and workloads in all, as far as is known by now
}

// Health is the state of a hub, a firewall or an uplink.
type Health struct {
	Kind   string `json:"kind"` // hub, firewall or uplink
	Name   string `json:"name"`
	Region string `json:"region"`
	State  string `json:"state"` // up, down or waiting
	Why    string `json:"why,omitempty"`
}

// Native is what a provider holds for an account beside its inventory.
type Native struct {
	Lists    []NetworkList
	Entries  []EntryList // of Cirra
	Bindings []Binding   // of Cirra, by workload; "" is what others bear
	Tables   []Table
}

// Table is the route table of a network, by the provider's ID, and its ends of peerings. Peers
// are named by ID, in routes too.
type Table struct {
	Network string
	Version string
	Routes  []inventory.Route
	Peers   []Peer
}

// Peer is a network's end of a peering, which works once the other network has its end as well.
type Peer struct {
	Network   string // the other one, by the provider's ID
	OffersHub bool   // the other one, to this
}

// NetworkList is a list on a network, by the provider's ID, or on a subnet of it.
type NetworkList struct {
	Network string
	Version string
	config.List
	By []string // by rule: who wrote it, where the provider knows
}

// EntryList is a list that workloads bear.
type EntryList struct {
	Version string
	config.EntryList
	By []string
}

// Binding is the lists that a workload bears, by the provider's ID.
type Binding struct {
	Version  string
	Workload string
	Lists    []string
}

// Put is one thing that is to be written: a list on a network, one that workloads bear, what a
// workload bears, or the route table of a network with its ends of peerings. Version is that of what it replaces; "" where
// nothing was there.
type Put struct {
	Version  string
	Network  string
	List     *config.List
	Entries  *config.EntryList
	Workload string
	Bears    []string
	Table    []inventory.Route // of Network; nil where something else is written
	Peers    []Peer            // with the table
	Remove   bool              // the list, or what the workload bears
}

// RuleList is rules that a provider has, in the order in which it asks them.
type RuleList struct {
	On    string   `json:"on"`    // what they hang on: a network, a subnet or a workload, as the provider calls it
	Rules []string `json:"rules"` // in the provider's own words, one a line
}

// Access is how an account is reached.
type Access struct {
	Endpoint string `json:"endpoint"`
	Account  string `json:"account"` // as the provider calls it
	Key      string `json:"key"`
	Secret   string `json:"secret"`
}

// What can go wrong, apart from answers that make no sense (AnswerError).
var (
	// ErrCredential is returned where the provider does not accept the credential.
	ErrCredential = errors.New("the provider rejected the credential; it may have expired")
	// ErrUnreachable is returned where the provider does not answer, or only says
	// that it is busy, however often it is asked.
	ErrUnreachable = errors.New("the provider does not answer")
	// ErrChanged is returned where somebody else has written since.
	ErrChanged = errors.New("somebody else has changed this since it was read")
	// ErrTried comes with ErrChanged where a try of the same write failed just before: it may have
	// been that try that changed it.
	ErrTried = errors.New("an earlier try to write it failed")
	// ErrMissing is returned where the provider does not know what was asked for.
	ErrMissing = errors.New("the provider does not have this object")
)

// LimitError says that a provider takes no list of that size.
type LimitError struct{ Why string }

// Error says what the limit is, in the provider's words.
func (e *LimitError) Error() string { return "the provider refuses the list: " + e.Why }

// AnswerError is an answer that makes no sense.
type AnswerError struct {
	Asked string
	Err   error
}

// Error says what was asked for, and what is wrong with the answer.
func (e *AnswerError) Error() string {
	return fmt.Sprintf("the answer about %s is invalid: %v", e.Asked, e.Err)
}

// Unwrap returns what is wrong with the answer.
func (e *AnswerError) Unwrap() error { return e.Err }
