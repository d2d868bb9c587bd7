// Package httprules is what the HTTP standards say about caching, as pure functions
// over headers and times: may a response be stored (RFC 9111 §3), how long is it
// fresh (§4.2), which stored response answers which request (§4.1), what a
// conditional request is answered with (RFC 9110 §13). It knows nothing of
// policies, stores or connections; those ask it.
package httprules
