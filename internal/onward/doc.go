// Package onward tells caches and services beyond the node of purges: each purge of the ledger, in its
// order, at least once. One node does it for all; how far each target was told is in the records.
package onward
