// Package pace says when somebody sends or reads too slowly to be waited for.
package pace
