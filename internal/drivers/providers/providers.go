// Package providers knows every driver that ships with Bivium.
package providers

import (
	"fmt"
	"maps"
	"slices"

	"bivium/internal/drivers"
	"bivium/internal/drivers/call"
	"bivium/internal/drivers/cirra"
	"bivium/internal/drivers/premises"
	"bivium/internal/drivers/stratok"
	"bivium/internal/drivers/velum"
)

var makers = map[string]func(drivers.Access, *call.Client) drivers.Driver{
	"cirra":    cirra.New,
	"velum":    velum.New,
	"stratok":  stratok.New,
	"premises": premises.New,
}

// Names returns the providers that there are drivers for, sorted.
func Names() []string { return slices.Sorted(maps.Keys(makers)) }

// Open returns the driver of an account. tune, if given, changes how the client
// waits.
func Open(provider string, a drivers.Access, tune func(*call.Client)) (drivers.Driver, error) {
	maker, ok := makers[provider]
	if !ok {
		return nil, fmt.Errorf("there is no driver for %q; there are %v", provider, Names())
	}
	c, err := call.New(a.Endpoint)
	if err != nil {
		return nil, err
	}
	if tune != nil {
		tune(c)
	}
	return maker(a, c), nil
}
