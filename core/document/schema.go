package document

import (
	"encoding/json"
	"math"
	"net/netip"
	"reflect"
	"strconv"

	"bivium/core/estate"
)

// SchemaID names the published schema. It is an identifier, not an address to
// fetch anything from.
const SchemaID = "urn:bivium:estate:1"

// Schema returns the JSON Schema (2020-12) of the estate document, indented.
// It says all of page 2 that a schema can say; unique names, prefixes without
// host bits and the grammar of selectors are left to Read.
func Schema() ([]byte, error) {
	s := schemaOf(reflect.TypeFor[estate.Estate](), nil)
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["$id"] = SchemaID
	s["title"] = "Bivium estate"
	s["$defs"] = map[string]any{
		"name": map[string]any{
			"type": "string", "pattern": "^[a-z][a-z0-9.-]{0,62}$",
			"not": map[string]any{"enum": []string{"any", "all", "internet", "none", "hub", "tcp", "udp", "icmp", "icmpv6", "proto"}},
		},
		"prefix":   map[string]any{"type": "string", "pattern": "^[0-9a-fA-F:.]+/[0-9]{1,3}$"},
		"address":  map[string]any{"type": "string", "pattern": "^[0-9a-fA-F:.]+$"},
		"range":    map[string]any{"anyOf": []any{map[string]any{"type": "integer", "minimum": 0, "maximum": 65535}, map[string]any{"type": "string", "pattern": "^[0-9]{1,5}(-[0-9]{1,5})?$"}}},
		"termText": map[string]any{"type": "string", "pattern": `^(any|(tcp|udp)(/[0-9]{1,5}(-[0-9]{1,5})?)?( from [0-9]{1,5}(-[0-9]{1,5})?)?|icmp(v6)?(/[0-9]{1,3}(-[0-9]{1,3})?)?|proto/[0-9]{1,3})$`},
		"termObject": map[string]any{
			"type": "object", "additionalProperties": false, "required": []string{"protocol"},
			"properties": map[string]any{
				"protocol":    map[string]any{"type": []string{"string", "integer"}},
				"ports":       ref("range"),
				"sourcePorts": ref("range"),
			},
		},
		"names":  map[string]any{"type": "array", "items": ref("name")},
		"labels": map[string]any{"type": "object", "additionalProperties": map[string]any{"type": []string{"string", "number", "boolean"}}},
	}
	return json.MarshalIndent(s, "", "  ")
}

func ref(def string) map[string]any { return map[string]any{"$ref": "#/$defs/" + def} }

func wordOr(word, def string) map[string]any {
	return map[string]any{"anyOf": []any{map[string]any{"const": word}, ref(def)}}
}

func schemaOf(t reflect.Type, f *field) map[string]any {
	switch t {
	case reflect.TypeFor[netip.Prefix]():
		return ref("prefix")
	case reflect.TypeFor[netip.Addr]():
		return ref("address")
	case reflect.TypeFor[estate.SubnetRef]():
		return map[string]any{"type": "string", "pattern": "^[a-z][a-z0-9.-]*/[a-z][a-z0-9.-]*$"}
	case reflect.TypeFor[estate.Via]():
		return map[string]any{"type": "string", "pattern": "^(hub|internet|none|peer:[a-z][a-z0-9.-]*)$"}
	case reflect.TypeFor[estate.Side]():
		return wordOr("any", "names")
	case reflect.TypeFor[estate.Scope]():
		return wordOr("all", "names")
	case reflect.TypeFor[estate.End]():
		return map[string]any{"anyOf": []any{map[string]any{"const": "internet"}, schemaOf(reflect.TypeFor[estate.Party](), nil)}}
	case reflect.TypeFor[estate.Term]():
		return map[string]any{"anyOf": []any{ref("termText"), ref("termObject")}}
	case reflect.TypeFor[estate.ServiceRef]():
		return map[string]any{"anyOf": []any{ref("name"), ref("termText"), ref("termObject")}}
	case reflect.TypeFor[map[string]string]():
		return ref("labels")
	}
	switch t.Kind() {
	case reflect.Struct:
		return objectSchema(t)
	case reflect.Slice:
		return map[string]any{"type": "array", "items": schemaOf(t.Elem(), f)}
	case reflect.Array:
		return map[string]any{"type": "array", "items": schemaOf(t.Elem(), f), "minItems": t.Len(), "maxItems": t.Len()}
	case reflect.Bool:
		return withDefault(map[string]any{"type": "boolean"}, f)
	case reflect.Int:
		s := map[string]any{"type": "integer"}
		if f != nil && f.bounded {
			s["minimum"], s["maximum"] = f.min, math.MaxInt32
			if f.max > 0 {
				s["maximum"] = f.max
			}
		}
		return withDefault(s, f)
	case reflect.String:
		switch {
		case f != nil && f.name:
			return ref("name")
		case f != nil && f.date:
			return map[string]any{"type": "string", "format": "date"}
		case f != nil && f.enum != nil:
			return withDefault(map[string]any{"enum": f.enum}, f)
		}
		return map[string]any{"type": []string{"string", "number", "boolean"}}
	}
	panic("document: no schema for " + t.String())
}

func withDefault(s map[string]any, f *field) map[string]any {
	if f == nil || f.def == "" {
		return s
	}
	s["default"] = f.def
	switch s["type"] {
	case "boolean":
		s["default"] = f.def == "true"
	case "integer":
		s["default"], _ = strconv.Atoi(f.def)
	}
	return s
}

func objectSchema(t reflect.Type) map[string]any {
	properties := map[string]any{}
	var required []string
	for _, f := range fieldsOf(t) {
		properties[f.key] = schemaOf(t.FieldByIndex(f.index).Type, &f)
		if f.required {
			required = append(required, f.key)
		}
	}
	s := map[string]any{"type": "object", "additionalProperties": false, "properties": properties}
	if required != nil {
		s["required"] = required
	}
	if t == reflect.TypeFor[estate.Estate]() {
		properties["bivium"] = map[string]any{"const": estate.Version}
	}
	return s
}
