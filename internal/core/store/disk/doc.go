// Package disk is the store's tier on disk: its format, over files that are handed in.
//
// Entries stand behind one another in segments, which are only added to; the oldest give way. What
// is known of a segment's entries stands at its end, so that a start reads that and no entries. A
// log names the entries that have left before their segment, and a note says up to where in the
// ledger of purges all that is here was judged: purges that came later are read again at a start.
package disk
