// Package outbound is what of a visitor's request reaches its origin.
package outbound
