// Package resident holds the process to the memory that it was given: it tells the collector how
// much there is, has it work less where there is room and more where there is not, gives back what
// is not needed when it is quiet, and says what the resident memory consists of.
package resident
