// Package policy reads a policy, checks it, compiles it, and matches requests to its
// routes. A compiled policy is immutable; a node swaps one for another.
package policy
