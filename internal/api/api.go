// Package api is the wire: what openapi.yaml describes, as Go types, client and server interface. It is generated; it
// imports nothing of ours.
package api

import _ "embed"

//go:generate go tool oapi-codegen -config oapi.yaml openapi.yaml

// ControllerHeader names, in the answer to a report, the version of what the host's agent is told of its management
// controller; it is left out where there is none.
const ControllerHeader = "Lantern-Controller"

// Document is the OpenAPI 3.1 description itself.
//
//go:embed openapi.yaml
var Document []byte
