// Package fetch asks origins: a fill, from the request to the origin up to those who read its
// answer and to the store, and what only passes through. It knows what a visitor asked for, and
// never who waits for the answer.
package fetch
