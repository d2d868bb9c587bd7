// Package node is one running node: it wires the edge, the control side, the store and
// the database together, starts them, keeps them in step, and stops them.
package node
