// Package demo is the made-up Ostrel Isles Ferries: a small, real web application with
// its content in PostgreSQL, slow where a real one would be; its visitors; and its
// operations desk. Everything in it is invented.
package demo
