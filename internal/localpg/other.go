//go:build !linux

package localpg

import (
	"context"
	"errors"
	"log/slog"
)

// Options say how to run a cluster.
type Options struct {
	Dir       string
	Throwaway bool
}

// Cluster is not to be had on this system.
type Cluster struct{}

// ErrMissing says so.
var ErrMissing = errors.New("a database of its own can be started on Linux only; pass --database URL, or none of the two to keep the records in memory")

// Start returns ErrMissing.
func Start(context.Context, Options) (*Cluster, error) { return nil, ErrMissing }

// Keep does nothing, as there is no cluster.
func (c *Cluster) Keep(context.Context, *slog.Logger) {}

// Down returns ErrMissing.
func (c *Cluster) Down() error { return ErrMissing }

// URL is empty.
func (c *Cluster) URL(string) string { return "" }

// CreateDatabase returns ErrMissing.
func (c *Cluster) CreateDatabase(context.Context, string) (string, error) { return "", ErrMissing }

// Pid is that of no process.
func (c *Cluster) Pid() int { return 0 }

// Stop does nothing.
func (c *Cluster) Stop() {}
