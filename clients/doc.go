// Package clients has the kits' sources, for the demo.
package clients
