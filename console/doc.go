// Package console holds the console's built files, so that the program needs nothing
// beside itself.
package console
