// Package api is the wire: what openapi.yaml describes, as Go types, client and server interface. It is generated; it
// imports nothing of ours.
package api

import _ "embed"

//go:generate go tool oapi-codegen -config oapi.yaml openapi.yaml

// Document is the OpenAPI 3.1 description itself.
//
//go:embed openapi.yaml
var Document []byte
