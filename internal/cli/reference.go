package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"
)

// Reference writes all commands with their flags, as Markdown.
func Reference(w io.Writer) {
	a := &app{out: io.Discard, errs: io.Discard}
	root := a.root()
	fmt.Fprintf(w, "# Commands\n\nMade from the code by `make generate`; do not edit.\n\nExit codes: 0 done, 1 refused or failed, 2 wrong usage, 3 a stated expectation was not met.\n\nFlags of every command:\n\n```\n%s```\n", root.PersistentFlags().FlagUsages())
	describe(w, root)
}

func describe(w io.Writer, c *cobra.Command) {
	for _, sub := range c.Commands() {
		if sub.Hidden || sub.Name() == "help" || sub.Name() == "completion" {
			continue
		}
		if sub.Runnable() {
			text := sub.Long
			if text == "" {
				text = sub.Short + "."
			}
			fmt.Fprintf(w, "\n## %s\n\n```\n%s\n\n%s\n", sub.CommandPath(), sub.UseLine(), text)
			if sub.Example != "" {
				fmt.Fprintf(w, "\nExample:\n%s\n", sub.Example)
			}
			if flags := sub.LocalNonPersistentFlags().FlagUsages(); strings.TrimSpace(flags) != "" {
				fmt.Fprintf(w, "\n%s", flags)
			}
			fmt.Fprint(w, "```\n")
		}
		describe(w, sub)
	}
}
