package pgxwork

import (
	"context"

	"github.com/jackc/pgx/v5"

	"gerastic.example/client"
)

// Tracer is a pgx.QueryTracer.
type Tracer struct{}

// TraceQueryStart counts a query.
func (Tracer) TraceQueryStart(ctx context.Context, _ *pgx.Conn, _ pgx.TraceQueryStartData) context.Context {
	client.Did(ctx, "queries", 1)
	return ctx
}

// TraceQueryEnd counts the rows that it gave, or changed.
func (Tracer) TraceQueryEnd(ctx context.Context, _ *pgx.Conn, data pgx.TraceQueryEndData) {
	if rows := data.CommandTag.RowsAffected(); data.Err == nil && rows > 0 {
		client.Did(ctx, "rows", float64(rows))
	}
}
