// Package warm fills again what visitors asked for lately, before they ask again: at the start, after a
// purge, and before its life ends.
package warm
