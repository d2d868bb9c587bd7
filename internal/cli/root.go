package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"gerastic.example/client"

	"gerastic/internal/node"
)

// Exit codes: 0 done, and these.
const (
	exitFailed     = 1 // refused or failed
	exitUsage      = 2 // wrong usage
	exitUnexpected = 3 // a stated expectation was not met
)

// exit is an error with the exit code that it means.
type exit struct {
	code int
	err  error
}

func (e exit) Error() string { return e.err.Error() }
func (e exit) Unwrap() error { return e.err }

func usage(format string, args ...any) error { return exit{exitUsage, fmt.Errorf(format, args...)} }

// app is what every command needs.
type app struct {
	out, errs            io.Writer
	format               string
	control, token, data string
}

// Run carries out a command line and returns its exit code.
func Run(args []string, out, errs io.Writer) int {
	printed := &plain{w: out, instead: inHex, failed: new(error)}
	out, errs = printed, &plain{w: errs, instead: inHex, failed: new(error)}
	a := &app{out: out, errs: errs}
	root := a.root()
	root.SetArgs(args)
	root.SetOut(out)
	root.SetErr(errs)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	err := root.ExecuteContext(ctx)
	if err == nil && *printed.failed != nil { // what was not written was not said
		err = fmt.Errorf("writing the output: %w", *printed.failed)
	}
	if err == nil {
		return 0
	}
	fmt.Fprintln(errs, "gerastic: "+strings.TrimSpace(err.Error()))
	var e exit
	if errors.As(err, &e) {
		return e.code
	}
	if strings.HasPrefix(err.Error(), "required flag") {
		return exitUsage
	}
	return exitFailed
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "gerastic",
		Short: "Cache rendered pages and API answers, purge them by tag, and see what it saves",
		Long: `Gerastic stands in front of a web application, keeps what it renders, and forgets
exactly what changed when you purge by tag.

Begin with: gerastic demo`,
		SilenceErrors: true, SilenceUsage: true,
	}
	flags := root.PersistentFlags()
	flags.StringVarP(&a.format, "output", "o", "table", "table, json or csv")
	flags.StringVar(&a.control, "control", env("GERASTIC_CONTROL", client.DefaultControl), "control address of the node (GERASTIC_CONTROL)")
	flags.StringVar(&a.token, "token", "", "bearer token (GERASTIC_TOKEN); else DATA/admin.token")
	flags.StringVar(&a.data, "data", env("GERASTIC_DATA", node.DefaultData), "directory of the node (GERASTIC_DATA)")
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		if strings.Contains(err.Error(), "--prefix") && c.Name() == "purge" {
			return usage("--prefix is called --below by now")
		}
		return usage("%w; see: %s --help", err, c.CommandPath())
	})
	root.PersistentPreRunE = func(*cobra.Command, []string) error {
		switch a.format {
		case "table", "json", "csv":
			return nil
		}
		return usage("-o %q: the outputs are table, json and csv", a.format)
	}
	root.AddCommand(a.serve(), a.demo(), a.policy(), a.routes(), a.explain(), a.purge(), a.tags(), a.entries(), a.prime(), a.fragments(), a.changes(), a.onward(), a.report(), a.compare(), a.mark(), a.marks(), a.watch(), a.tokens(), a.nodes())
	root.CompletionOptions.HiddenDefaultCmd = true
	wrapArgs(root)
	return root
}

// wrapArgs makes wrong arguments count as wrong usage, for c and what is below it.
func wrapArgs(c *cobra.Command) {
	check := c.Args
	switch {
	case check == nil && c.HasSubCommands(): // a name that is none of its commands is a mistake
		check = func(c *cobra.Command, args []string) error {
			if len(args) > 0 {
				return noCommand(c, args[0])
			}
			return nil
		}
	case check == nil:
		check = cobra.NoArgs
	}
	if !c.Runnable() {
		c.RunE = func(c *cobra.Command, _ []string) error { return c.Help() }
	}
	c.Args = func(c *cobra.Command, args []string) error {
		if err := check(c, args); errors.As(err, new(exit)) {
			return err
		} else if err != nil {
			if strings.Contains(err.Error(), "--prefix") && c.Name() == "purge" {
				return usage("--prefix is called --below by now")
			}
			return usage("%w; see: %s --help", err, c.CommandPath())
		}
		return nil
	}
	for _, sub := range c.Commands() {
		wrapArgs(sub)
	}
}

// noCommand says which command was meant, if one reads nearly like it.
func noCommand(c *cobra.Command, name string) error {
	c.SuggestionsMinimumDistance = 2
	if near := c.SuggestionsFor(name); len(near) > 0 {
		return usage("%s has no command %q; did you mean %s?", c.CommandPath(), name, near[0])
	}
	return usage("%s has no command %q; see: %s --help", c.CommandPath(), name, c.CommandPath())
}

func env(name, otherwise string) string {
	if v := os.Getenv(name); v != "" {
		return v
	}
	return otherwise
}

// client returns a client for the node that the flags name. The token comes from the
// flag, the environment, or the node's directory on this machine.
func (a *app) client() *client.Client {
	token := a.token
	if token == "" {
		token = os.Getenv("GERASTIC_TOKEN")
	}
	if token == "" {
		if kept, err := os.ReadFile(filepath.Join(a.data, node.AdminTokenFile)); err == nil {
			token = strings.TrimSpace(string(kept))
		}
	}
	control := a.control
	if !strings.Contains(control, "://") {
		control = "http://" + control
	}
	return client.New(control, token)
}
