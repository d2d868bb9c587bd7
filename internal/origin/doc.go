// Package origin is the way to an origin: connections, time limits, the health of its
// addresses, and what a request carries there.
package origin
