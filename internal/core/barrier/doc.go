// Package barrier is what a node may still believe of what it has stored, and of what is on
// its way: it owns the marks that purges leave, the time until which the ledger is known, and
// the fills that are under way. It keeps the promise that nothing older than an acknowledged
// purge is used.
package barrier
