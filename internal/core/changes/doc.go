// Package changes turns a change of content, old values and new, into the tags of the
// entries that showed it. It does not know how changes are found or purged.
package changes
