package cli

import (
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"gerastic.example/client"

	"gerastic/internal/core/policy"
)

func (a *app) policy() *cobra.Command {
	c := &cobra.Command{Use: "policy", Short: "The policy: check, apply, show"}
	c.AddCommand(a.policyCheck(), a.policyApply(), a.policyShow())
	return c
}

func (a *app) policyCheck() *cobra.Command {
	var origin string
	c := &cobra.Command{
		Use:     "check FILE",
		Short:   "Check a policy, without a node",
		Long:    "Check a policy, without a node. Every mistake is shown with its line and column;\nFILE - reads standard input. Exit code 1 when there are mistakes.",
		Example: "  gerastic policy check policy.yaml",
		Args:    cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			source, err := read(args[0])
			if err != nil {
				return err
			}
			outside := policy.Outside{Lookup: os.LookupEnv}
			if origin != "" {
				if outside.Origin, err = policy.ParseOrigin(origin); err != nil {
					return usage("--origin: %w", err)
				}
			}
			p, err := outside.Parse(args[0], source)
			var problems policy.Problems
			if errors.As(err, &problems) {
				return a.showProblems(problems)
			}
			for _, w := range p.Warnings {
				fmt.Fprintln(a.errs, "warning: "+w.Error())
			}
			a.say("%s holds: %s, %s", args[0], plural(int64(len(p.Origins)), "origin", "origins"), plural(int64(len(p.Routes)), "route", "routes"))
			if a.format == "json" {
				return a.json(map[string]any{"ok": true, "warnings": p.Warnings})
			}
			return nil
		},
	}
	c.Flags().StringVar(&origin, "origin", "", "check it for a node that is started with this --origin")
	return c
}

func (a *app) showProblems(problems policy.Problems) error {
	if a.format == "json" {
		if err := a.json(map[string]any{"ok": false, "problems": problems}); err != nil {
			return err
		}
	} else {
		for _, p := range problems {
			fmt.Fprintln(a.errs, p.Error())
		}
	}
	return fmt.Errorf("%s; correct the lines above and check again", plural(int64(len(problems)), "mistake", "mistakes"))
}

func read(path string) ([]byte, error) {
	if path == "-" {
		return io.ReadAll(os.Stdin)
	}
	source, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("reading the file: %w", err)
	}
	return source, nil
}

func (a *app) policyApply() *cobra.Command {
	var note string
	c := &cobra.Command{
		Use:     "apply FILE",
		Short:   "Check a policy and put it in force",
		Example: "  gerastic policy apply policy.yaml --note 'cache the fares'",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			source, err := read(args[0])
			if err != nil {
				return err
			}
			p, err := a.client().ApplyPolicy(cmd.Context(), string(source), note)
			var problem *client.Problem
			if errors.As(err, &problem) && len(problem.Errors) > 0 {
				for _, e := range problem.Errors {
					fmt.Fprintf(a.errs, "%s: %s\n", e.Location, e.Message)
				}
				return errors.New(problem.Detail)
			}
			if err != nil {
				return err
			}
			for _, w := range p.Warnings {
				fmt.Fprintf(a.errs, "warning: %s:%d:%d: %s\n", args[0], w.Line, w.Column, w.Message)
			}
			a.say("revision %d is in force", p.Revision)
			if p.Touched > 0 {
				a.say("it touches %s stored on this node; each is judged anew at its next use, or not used any more", plural(p.Touched, "entry", "entries"))
			}
			if a.format == "json" {
				return a.json(p)
			}
			return nil
		},
	}
	c.Flags().StringVar(&note, "note", "", "what changed, for the history")
	return c
}

func (a *app) policyShow() *cobra.Command {
	var full bool
	c := &cobra.Command{
		Use:     "show",
		Short:   "Print the policy in force",
		Long:    "Print the policy in force, as it was applied. With --full, each route is printed with all that it\ntakes over from defaults and shapes, and where each setting is from.",
		Example: "  gerastic policy show > policy.yaml\n  gerastic policy show --full",
		RunE: func(cmd *cobra.Command, _ []string) error {
			p, err := a.client().Policy(cmd.Context())
			if err != nil {
				return err
			}
			if a.format == "json" {
				return a.json(p)
			}
			text := p.Source
			if full {
				known := func(string) (string, bool) { return "x", true } // what stands in the node's environment is not shown
				if text, err = (policy.Outside{Elsewhere: true, Lookup: known}).Full("policy", []byte(p.Source)); err != nil {
					return fmt.Errorf("the policy in force cannot be read by this program: %w", err)
				}
			}
			_, err = fmt.Fprint(a.raw(), text)
			return err
		},
	}
	c.Flags().BoolVar(&full, "full", false, "with all that routes take over")
	return c
}
