// Package protocol is what an application and a Gerastic node tell each other: the header fields
// of pages that are made of fragments, the rules of names, keys and tags, and the messages of the
// calls for many fragments. It depends on neither of them.
package protocol
