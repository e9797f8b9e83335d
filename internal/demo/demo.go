// Package demo holds the sample scenario: Larkwater Ferries.
package demo

import _ "embed"

// Schema makes the sample's tables.
//
//go:embed larkwater/schema.sql
var Schema string

// Plan is the sample's plan file.
//
//go:embed larkwater/evensprout.yaml
var Plan string
