// Package api is every document that the program prints as JSON: its type, its name, and its JSON
// Schema (2020-12), which is made from the type. Lists and maps are never null, times are RFC 3339,
// addresses, prefixes and MAC addresses are text.
package api
