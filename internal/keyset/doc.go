// Package keyset verifies signed tokens (RFC 7519) by keys from files or from a set at a URL (RFC 7517),
// which it reads anew as they change.
package keyset
