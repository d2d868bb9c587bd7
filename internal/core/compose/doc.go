// Package compose makes a page out of a skeleton and what it includes: Edge Side
// Includes 1.0 (W3C Note, 2001). A skeleton is parsed once and composed for each request. It
// knows nothing of HTTP: who composes says where includes come from.
package compose
