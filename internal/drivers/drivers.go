// Package drivers is how Bivium speaks with the outside world: one interface,
// and one package beside this one for each provider. How to add one is in
// docs/drivers.md; package conformance holds what every driver must do.
package drivers

import (
	"context"
	"errors"
	"fmt"

	"bivium/core/inventory"
)

// Driver reads one account. It is used by one reader at a time.
type Driver interface {
	// Page returns the part of the inventory that begins at a cursor; the empty
	// one is the beginning. Cursors stay good for as long as the provider lets
	// them, longer than the driver lives: a reading that was cut off goes on at
	// the last. Networks come before the workloads that live in them.
	Page(ctx context.Context, cursor string) (*Page, error)
	// Rules returns the rules that the provider has on a network and what lives in
	// it, as they are now; ErrMissing if there is no such network.
	Rules(ctx context.Context, network string) ([]RuleList, error)
	// Health returns the state of what the provider runs for the account.
	Health(ctx context.Context) ([]Health, error)
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
	// ErrMissing is returned where the provider does not know what was asked for.
	ErrMissing = errors.New("the provider does not have this object")
)

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
