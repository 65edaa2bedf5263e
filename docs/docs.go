// Package docs holds the documents that the program itself goes by.
package docs

import _ "embed"

// CloudInterface is the interface through which clouds are reached, as an OpenAPI document.
//
//go:embed cloud.openapi.json
var CloudInterface []byte
