package cli

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"gerastic/console"
	"gerastic/demo"
	"gerastic/internal/core/policy"
)

func (a *app) demo() *cobra.Command {
	o := demo.Options{Slow: 1, History: true}
	var memory, disk, logFormat string
	var howLong time.Duration
	c := &cobra.Command{
		Use:   "demo",
		Short: "Run everything on the made-up ferry company",
		Long: `Run everything on the made-up Ostrel Isles Ferries: a database, the company's web
application, a node in front of it, visitors, and an operations desk that delays and
cancels sailings. It prints the addresses and a token, and what to try first. It runs
until it is interrupted, and stops all that it started. What it keeps is in --data.`,
		Example: "  gerastic demo\n  gerastic demo --for 30s --visitors 100",
		RunE: func(cmd *cobra.Command, _ []string) error {
			err := demoSizes(&o, memory, disk)
			if err != nil {
				return err
			}
			if o.Node.Log, err = logger(a.errs, logFormat); err != nil {
				return err
			}
			if o.Visitors < 0 || o.Visitors > 2000 {
				return usage("--visitors is a number of page visits a second, from 0 to 2000")
			}
			o.Node.Data, o.Node.Console, o.Node.AdminToken = a.data, console.Files(), os.Getenv("GERASTIC_ADMIN_TOKEN")
			o.Node.Control, o.Command = strings.TrimPrefix(a.control, "http://"), os.Args[0]
			d, err := demo.Start(cmd.Context(), o)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "ready edge=%s control=%s\n", d.Node.EdgeURL(), d.Node.ControlURL())
			d.Welcome(a.out)
			var end <-chan time.Time
			if howLong > 0 {
				end = time.After(howLong)
			}
			var failure error
			select {
			case <-cmd.Context().Done():
			case <-end:
			case failure = <-d.Node.Failed():
			}
			fmt.Fprintln(a.out, "stopping")
			ctx, cancel := context.WithTimeout(context.Background(), stopTime)
			defer cancel()
			d.Stop(ctx)
			return failure
		},
	}
	f := c.Flags()
	f.StringVar(&o.Node.Edge, "edge", "127.0.0.1:8480", "address that visitors reach")
	f.StringVar(&o.Origin, "origin", "127.0.0.1:8600", "address of the ferry company's application")
	f.StringVar(&memory, "memory", "16MiB", "memory that the store may use: little, so that it is full within a minute")
	f.StringVar(&disk, "disk", "128MiB", "disk that it may use")
	f.Float64Var(&o.Visitors, "visitors", 30, "page visits a second; 0 for none")
	f.DurationVar(&o.Editors, "edits-every", 6*time.Second, "about how long between two edits of the desk; 0s for none")
	f.DurationVar(&o.Imports, "imports-every", 2*time.Minute, "between two bulk imports that nobody is told of; 0s for none")
	f.DurationVar(&howLong, "for", 0, "stop by itself after this long, such as 30s")
	f.StringVar(&logFormat, "log-format", "text", "text or json, to standard error")
	return c
}

// demoSizes reads how much memory and disk the demo's store may use.
func demoSizes(o *demo.Options, memory, disk string) (err error) {
	if o.Node.Memory, err = policy.ParseSize(memory); err != nil {
		return usage("--memory: %w", err)
	}
	if o.Node.Disk, err = parseAmount(disk); err != nil {
		return usage("--disk: %w", err)
	}
	return nil
}
