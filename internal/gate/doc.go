// Package gate accepts connections: so many and no more, so many from one address, and
// none for longer whose peer does not read what it asked for.
package gate
