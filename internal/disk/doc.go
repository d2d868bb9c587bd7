// Package disk is the device below a store's tier on disk: a directory of real files.
package disk
