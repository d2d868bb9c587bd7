package cli

import (
	"github.com/spf13/cobra"
)

func (a *app) onward() *cobra.Command {
	c := &cobra.Command{
		Use:   "onward",
		Short: "Caches and services beyond that are told of purges",
		Long: `How it goes with the caches and services beyond that the policy names under onward: each is told of
each purge, in order, at least once. One that cannot be told is tried again; 10,000 purges may wait,
of more it is told to forget everything.`,
		Example: "  gerastic onward\n  gerastic onward skip outer",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			targets, err := a.client().Onward(cmd.Context())
			if err != nil {
				return err
			}
			t := &rows{columns: []column{left("target"), left("state"), right("behind"), left("told last"), left("when"), left("url"), left("last error")}}
			for _, o := range targets {
				last := cell{"never yet", ""}
				if o.LastAt != nil {
					last = clock(*o.LastAt)
				}
				t.add(str(o.Name), str(o.State), count(o.Behind), last, str(o.When), str(o.URL), str(o.LastError))
			}
			if err := a.print(map[string]any{"targets": targets}, t); err != nil {
				return err
			}
			if len(targets) == 0 {
				a.say("\nThe policy tells nobody; name targets under onward:")
			}
			return nil
		},
	}
	c.AddCommand(&cobra.Command{
		Use:     "skip TARGET",
		Short:   "Give up telling a target what it was not told until now",
		Long:    "Give up telling a target what it was not told until now, as when it refuses a purge for good. What it\nkeeps of those purges stays there: forget it there by hand.",
		Example: "  gerastic onward skip outer",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			skipped, err := a.client().SkipOnward(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if a.format == "json" {
				return a.json(map[string]any{"skipped": skipped})
			}
			a.say("%s is not told of %s", args[0], plural(skipped, "purge", "purges"))
			return nil
		},
	})
	return c
}
