// Package fragment is what applications store themselves: parts of pages, found or filled
// by key. A fragment is an entry like any other: the same store, tags, purges, eviction,
// figures and rules; what differs is who fills it. Instead of asking an origin, it gives one
// application at a time a lease to fill, and takes back what the lease brought.
package fragment
