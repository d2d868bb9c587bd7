// Package fill lets many requests share one answer while it arrives: one leads, the
// others join and read the same stream from its first byte. It knows nothing of HTTP;
// H is what the leader learns before the body.
package fill
