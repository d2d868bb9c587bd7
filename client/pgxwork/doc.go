// Package pgxwork counts the queries and rows of pgx as the work of the page or fragment that is made
// with them: set ConnConfig.Tracer to Tracer{}.
package pgxwork
