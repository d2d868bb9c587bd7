// Package prime asks for what visitors will ask for, before they do: it fills the store from lists of
// URLs, sitemaps and what was asked for most before, at a pace that spares the origin.
package prime
