// Package store keeps entries: the memory tier with its hard limit, the indexes by
// tag, route and path, and eviction.
package store
