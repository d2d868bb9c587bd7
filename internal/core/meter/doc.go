// Package meter counts how requests ended, and holds the formulas of the reports. It
// counts in memory; records keeps what it drains.
package meter
