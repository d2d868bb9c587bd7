// Package records is what must outlast a process, in PostgreSQL: the ledger of purges,
// policy revisions, switches, figures and tokens.
package records
