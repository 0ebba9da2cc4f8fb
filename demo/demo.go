// Package demo holds the estate of Grayshoal Wind, a made-up company, and the
// world outside that its accounts are read from.
package demo

import (
	_ "embed"
	"reflect"

	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
)

// Grayshoal is the document of the demo estate.
//
//go:embed grayshoal.yaml
var Grayshoal []byte

// World is what the stand-ins play: the accounts of Grayshoal Wind.
//
//go:embed world.yaml
var World []byte

// Person is one of the made-up people of Grayshoal Wind.
type Person struct {
	Name, Called string
	Roles        []string
}

// People are those whom anybody may be in the demo.
var People = []Person{
	{"mira", "Mira Holt (engineer)", []string{"engineer", "operator"}},
	{"tove", "Tove Brandal (owner of turbine)", []string{"approver"}},
	{"sol", "Sol Ekdahl (auditor)", []string{"auditor"}},
	{"rune", "Rune Falk (administrator)", []string{"administrator", "engineer", "operator", "auditor"}},
}

// Teams are the teams of Grayshoal Wind, by name.
var Teams = map[string][]string{"farm-operations": {"tove"}}

// Mapping is how Grayshoal Wind maps the tags of its teams.
var Mapping = estate.Mapping{Name: "tags", Rules: []estate.MappingRule{
	{Key: "env|environment|lifecycle", Value: "prod|production|live", Label: "env", To: "prod"},
	{Key: "env|environment|lifecycle", Value: "dev|development", Label: "env", To: "dev"},
	{Key: "app|application", Label: "app"},
	{Key: "role", Label: "role"},
	{Key: "tier", Label: "tier"},
	{Key: "team", Label: "team"},
	{Key: "use", Label: "use"},
	{Provider: "premises", Key: "farm", Label: "farm"},
	{Provider: "premises", Key: "site", Label: "site"},
}}

// MapTags returns the edit that adds Mapping to an estate.
func MapTags() edit.Edit {
	value, err := document.ValueOf(document.Body(reflect.ValueOf(&Mapping).Elem()))
	if err != nil {
		panic(err) // it is plain data
	}
	return edit.Edit{Operations: []edit.Operation{{Op: edit.Put, Kind: estate.KindMapping, Object: value, Base: edit.Absent}}}
}
