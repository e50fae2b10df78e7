package project

import _ "embed"

//go:embed schema.json
var schema []byte

// Schema is the JSON Schema (2020-12) of havvel.toml, made from the types of this package.
func Schema() []byte { return schema }

// SchemaFile is where a project keeps it, for editors: the first line of havvel.toml names it.
const SchemaFile = ".havvel/havvel.schema.json"
