package view

import "bivium/core/inventory"

// Change is what a reading or an edit did to one thing, with what of it changed, or why it is kept.
type Change struct {
	inventory.Change
	How string `json:"how,omitempty"`
}
