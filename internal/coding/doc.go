// Package coding gives stored answers their other content codings, and compresses what goes out
// as it is made.
package coding
