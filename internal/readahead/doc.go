// Package readahead reads from somebody before what they send is wanted: so who sends does not
// wait for who receives, as long as it is little, and it is known how much is there.
package readahead
