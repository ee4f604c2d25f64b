// Package internal holds the product; its own test keeps the import law of
// docs/architecture.md.
package internal
