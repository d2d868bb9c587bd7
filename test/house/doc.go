// Package house holds the project to how it is built: which room may use which, how long a
// function may be, and which words are not used. Run by make lint.
package house
