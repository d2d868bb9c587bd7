// Package control is the other listener: the API, the metrics and the console. It is
// never on the edge's port, and nothing on it is open without a token but health.
package control
