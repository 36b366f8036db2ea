package recipe

import _ "embed"

// Schema is the JSON Schema (draft 2020-12) of the recipe, for editors. It accepts what Parse accepts, but for what no
// schema can tell: names that nothing bears, expressions, references.
//
//go:embed schema.json
var Schema []byte
