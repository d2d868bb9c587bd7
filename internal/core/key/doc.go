// Package key builds what decides whether two requests may share an entry. A key is
// canonical: a sequence of length-prefixed parts, so that no two different lists of
// parts read the same, and so that every key can tell what it is made of.
package key
