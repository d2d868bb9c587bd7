// Package localpg runs a private PostgreSQL on loopback from Debian's binaries, in a
// directory of its owner's. It is for demos, tests and single nodes; it is not a
// database service: one owner, stopped with it.
package localpg
