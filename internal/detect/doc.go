// Package detect finds changes of content and purges what showed them: it reads the
// sources that the policy names, one node a source at a time, and turns what it finds
// into purges by the rules of core/changes.
//
// A source's place is kept only when the purges of what was read up to it are in the
// ledger: after a crash some changes are read twice, none is lost.
package detect
