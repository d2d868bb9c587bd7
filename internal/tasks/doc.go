// Package tasks owns goroutines: whoever starts one waits for it.
package tasks
