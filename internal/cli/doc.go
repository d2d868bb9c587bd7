// Package cli is the gerastic command: one file a noun. Commands other than serve, demo
// and policy check call a node's control API through the client package.
package cli
