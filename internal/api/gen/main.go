// Command gen writes the JSON Schema of the site file, or of every type that
// crosses to the browser, out of which the TypeScript types are made.
//
//	go run ./internal/api/gen site|api
package main

import (
	"encoding/json"
	"fmt"
	"os"
	"reflect"

	"github.com/invopop/jsonschema"

	"ferry/internal/api"
	"ferry/internal/core/address"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

func main() {
	var schema *jsonschema.Schema
	switch {
	case len(os.Args) == 2 && os.Args[1] == "site":
		schema = reflector().Reflect(&site.Site{})
		schema.ID, schema.Title = "", "Ferry site file, version 1"
	case len(os.Args) == 2 && os.Args[1] == "api":
		schema = reflector().Reflect(&api.All{})
		schema.ID, schema.Title = "", "All"
	default:
		fmt.Fprintln(os.Stderr, "usage: gen site|api")
		os.Exit(2)
	}
	data, err := json.MarshalIndent(schema, "", "  ")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	fmt.Printf("%s\n", data)
}

func reflector() *jsonschema.Reflector {
	return &jsonschema.Reflector{Mapper: func(t reflect.Type) *jsonschema.Schema {
		switch t {
		case reflect.TypeFor[value.Value]():
			return &jsonschema.Schema{OneOf: []*jsonschema.Schema{{Type: "null"}, {Type: "boolean"}, {Type: "number"},
				{Type: "string"}}}
		case reflect.TypeFor[protocol.Scalar]():
			return &jsonschema.Schema{OneOf: []*jsonschema.Schema{{Type: "boolean"}, {Type: "integer"},
				{Type: "string"}}}
		case reflect.TypeFor[address.Address]():
			return &jsonschema.Schema{Type: "string",
				Description: "Canonical address: the area and the number on the wire, with a bit after a point, " +
					"or what kind of name, an equals sign and the name (topic=1/temp)."}
		case reflect.TypeFor[json.RawMessage]():
			return &jsonschema.Schema{}
		}
		return nil
	}}
}
