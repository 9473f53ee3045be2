// Package contract is what the service and its clients agree on: openapi.yaml,
// and the server interface, client and types that are generated from it.
package contract

import _ "embed"

//go:generate go tool oapi-codegen -config oapi.yaml openapi.yaml

// OpenAPI is the contract's text.
//
//go:embed openapi.yaml
var OpenAPI []byte
