// Package watching shows what happens to those who watch, and never slows it.
package watching
