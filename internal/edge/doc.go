// Package edge is the handler that visitors reach. A visitor's request goes one way through:
// visit → lookup → decide → reply, or obtain what is missing, or pass.
package edge
