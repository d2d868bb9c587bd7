// Package compose makes a page out of a skeleton and the pieces that it includes: Edge Side
// Includes 1.0 (W3C Note, 2001). A skeleton is parsed once and composed for each request. It
// knows nothing of HTTP: who composes says where pieces come from.
package compose
