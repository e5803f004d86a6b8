// Package config reads a service's YAML file into checked settings. Every mistake
// is reported with its file, line and column and what would be right; all of them
// at once where possible.
package config
