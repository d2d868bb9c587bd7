// Package tags is what a purge does to an entry. A purge sets marks, one for each tag,
// route or URL that it names, at its place in the ledger; an entry is judged by
// comparing the marks that concern it with its stamp, the ledger sequence that was in
// force when its fill began. Setting a mark takes the same time however many entries
// it defeats.
package tags
