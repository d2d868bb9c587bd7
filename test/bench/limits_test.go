package bench

import (
	"os"
	"testing"
)

// missed fails a benchmark that did not reach its figure, unless only figures are wanted: those
// of a revision that is compared with another count whatever they are.
func missed(b *testing.B, format string, args ...any) {
	b.Helper()
	if os.Getenv("GERASTIC_BENCH_LIMITS") == "off" {
		b.Logf(format, args...)
		return
	}
	b.Errorf(format, args...)
}
