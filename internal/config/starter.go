package config

import _ "embed"

// Starter is the commented configuration that init writes.
//
//go:embed starter.toml
var Starter []byte
