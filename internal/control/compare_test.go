package control

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestSpansAreDividedIntoPieces(t *testing.T) {
	const day = 24 * time.Hour
	for _, c := range []struct{ before, after, old, piece time.Duration }{
		{7 * day, 7 * day, 14 * day, day}, {day, day, 2 * day, time.Hour}, {time.Hour, time.Hour, 2 * time.Hour, 5 * time.Minute}, {time.Minute, time.Minute, time.Hour, 10 * time.Second},
		{time.Minute, time.Minute, day, 5 * time.Minute}, {80 * day, time.Minute, 85 * day, 6 * time.Hour}, {6 * time.Hour, time.Minute, 7 * time.Hour, 5 * time.Minute},
		{5 * time.Hour, time.Minute, 5 * time.Hour, time.Minute},
	} {
		assert.Equal(t, c.piece, pieceOf(c.before, c.after, c.old), c)
		assert.LessOrEqual(t, int(max(c.before, c.after)/pieceOf(c.before, c.after, c.old)), mostPieces)
	}
}
