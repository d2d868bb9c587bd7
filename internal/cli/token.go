package cli

import (
	"cmp"
	"strings"

	"github.com/spf13/cobra"

	"gerastic.example/client"
)

func (a *app) tokens() *cobra.Command {
	c := &cobra.Command{Use: "token", Short: "Bearer tokens and their rights"}
	c.AddCommand(a.tokenCreate(), a.tokenList(), a.tokenRevoke())
	return c
}

func (a *app) tokenCreate() *cobra.Command {
	var name, namespace, atMost string
	var rights []string
	c := &cobra.Command{
		Use:     "create",
		Short:   "Make a token; its secret is shown this once",
		Long:    "Make a token; its secret is shown this once and kept hashed.\nRights: read (figures, decisions), purge, fragments, admin (all of them, policy, switches, tokens).\nA token for fragments is kept to those of one application: --namespace names it.",
		Example: "  gerastic token create --name deploy --rights read,purge\n  gerastic token create --name site-1 --rights fragments --namespace site",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if name == "" || len(rights) == 0 {
				return usage("pass --name and --rights; see: gerastic token create --help")
			}
			t, err := a.client().CreateBoundedToken(cmd.Context(), name, rights, namespace, atMost)
			if err != nil {
				return err
			}
			a.say("token %s for %s (%s); keep it now, it is not shown again:", t.ID, t.Name, strings.Join(t.Rights, ", "))
			if a.format == "table" {
				a.say("%s", t.Secret)
				return nil
			}
			r := &rows{columns: []column{left("id"), left("name"), left("secret")}}
			r.add(str(t.ID), str(t.Name), str(t.Secret))
			return a.print(t, r)
		},
	}
	c.Flags().StringVar(&name, "name", "", "who or what uses it; it stands in the ledger")
	c.Flags().StringSliceVar(&rights, "rights", nil, "read, purge, fragments, admin")
	c.Flags().StringVar(&namespace, "namespace", "", "with the right fragments: the application whose fragments it may load and store")
	c.Flags().StringVar(&atMost, "at-most", "", "how much memory these may take on a node, such as 64MiB; as much as there is if left out")
	return c
}

func (a *app) tokenList() *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Short:   "List tokens",
		Example: "  gerastic token list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			tokens, err := a.client().Tokens(cmd.Context())
			if err != nil {
				return err
			}
			r := &rows{columns: []column{left("id"), left("name"), left("rights"), left("namespace"), right("at most"), left("made"), left("revoked")}}
			for _, t := range tokens {
				revoked := cell{"–", ""}
				if t.Revoked != nil {
					revoked = clock(*t.Revoked)
				}
				r.add(str(t.ID), str(t.Name), str(strings.Join(t.Rights, ", ")), str(cmp.Or(t.Namespace, "–")), atMostOf(t), clock(t.Created), revoked)
			}
			return a.print(tokens, r)
		},
	}
}

func atMostOf(t client.Token) cell {
	if t.AtMost == 0 {
		return cell{"–", ""}
	}
	return bytes(t.AtMost)
}

func (a *app) tokenRevoke() *cobra.Command {
	return &cobra.Command{
		Use:     "revoke ID",
		Short:   "Revoke a token, at once",
		Example: "  gerastic token revoke 3f7k2m",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.client().RevokeToken(cmd.Context(), args[0]); err != nil {
				return err
			}
			a.say("token %s is revoked", args[0])
			return nil
		},
	}
}

func (a *app) nodes() *cobra.Command {
	return &cobra.Command{
		Use:     "nodes",
		Short:   "The nodes, what they hold and how they are",
		Example: "  gerastic nodes",
		RunE: func(cmd *cobra.Command, _ []string) error {
			nodes, err := a.client().Nodes(cmd.Context())
			if err != nil {
				return err
			}
			r := &rows{columns: []column{left("node"), left("edge"), left("state"), left("since"), right("entries"), right("memory"), right("of"), right("purge"), right("revision")}}
			for _, n := range nodes {
				state := "well"
				if n.Records == "memory" {
					state = "well, records in memory until it stops"
				}
				if n.Degraded != "" {
					state = "degraded: " + n.Degraded
				}
				if n.Control != "" {
					none := cell{"–", ""}
					r.add(str(n.Node), str("ask "+n.Control), str("seen "+clock(n.Seen).text+map[bool]string{true: ", " + state}[n.Degraded != ""]), clock(n.Started), none, none, none, count(int64(n.Sequence)), none)
					continue
				}
				r.add(str(n.Node), str(n.Edge), str(state), clock(n.Started), count(n.Entries), bytes(n.MemoryUsed), bytes(n.MemoryLimit), count(int64(n.Sequence)), count(n.Revision))
			}
			return a.print(nodes, r)
		},
	}
}
