package main

import (
	"encoding/json"
	"maps"
	"reflect"

	"github.com/invopop/jsonschema"
	"github.com/spf13/cobra"

	"northstake/core/declare"
)

// schemaOf is the JSON Schema of a declaration, made from the types that
// declarations are read into.
func schemaOf() *jsonschema.Schema {
	r := jsonschema.Reflector{FieldNameTag: "toml", RequiredFromJSONSchemaTags: true, DoNotReference: false, Anonymous: true}
	s := r.Reflect(&declare.Declaration{})
	s.Title = "North Stake declaration"
	for _, setting := range declare.AllSettings() {
		one := r.ReflectFromType(setting.Type)
		maps.Copy(s.Definitions, one.Definitions)
		one.Definitions, one.Version = nil, ""
		for _, table := range []string{"Kit", "Host"} {
			its := *one
			s.Definitions[table].Properties.Set(setting.Key, &its)
		}
	}
	aloneToo(s)
	said := map[string]bool{}
	for _, k := range declare.Keys() {
		def := s.Definitions[k.Type]
		if def == nil || said[k.Type+"."+k.Word] {
			continue
		}
		said[k.Type+"."+k.Word] = true
		p, ok := def.Properties.Get(k.Word)
		if !ok {
			continue
		}
		p.Description = k.About
		if k.Default != "" {
			p.Description += " Left out: " + k.Default + "."
		}
		for _, v := range k.Values {
			p.Enum = append(p.Enum, v)
		}
		if k.Required {
			def.Required = append(def.Required, k.Word)
		}
	}
	return s
}

// aloneToo lets a port stand for the table of where a site listens.
func aloneToo(s *jsonschema.Schema) {
	t := reflect.TypeFor[declare.Listen]()
	one, ok := declare.StandsAlone(t)
	if !ok {
		return
	}
	table := &jsonschema.Schema{Ref: "#/$defs/" + t.Name()}
	alone := (&jsonschema.Reflector{Anonymous: true}).ReflectFromType(one)
	alone.Version = ""
	for _, def := range s.Definitions {
		if p, ok := def.Properties.Get("listen"); ok && p.Items != nil {
			p.Items = &jsonschema.Schema{AnyOf: []*jsonschema.Schema{alone, table}}
		}
	}
}

func schemaCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "schema", Short: "Print the JSON Schema of a declaration, for editors", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			enc := json.NewEncoder(a.out.w)
			enc.SetIndent("", "  ")
			return enc.Encode(schemaOf())
		},
	}
}
