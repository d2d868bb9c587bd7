package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"gerastic/console"
	"gerastic/internal/core/policy"
	"gerastic/internal/node"
)

// stopTime is how long requests under way may take to end after an interrupt.
const stopTime = 10 * time.Second

// serveOptions are flags of serve that become settings only when they have been read.
type serveOptions struct{ memory, disk, diskWrites, logFormat, whenLost string }

func (a *app) serve() *cobra.Command {
	var s node.Settings
	var o serveOptions
	c := &cobra.Command{
		Use:   "serve",
		Short: "Run a node: the edge that visitors reach, and the control side",
		Long: `Run a node. It prints one line when it is ready:

  ready edge=http://127.0.0.1:8480 control=http://127.0.0.1:8490

--origin URL is enough: everything goes to that origin, and what it allows to be stored is. Without a
database the node runs alone: policies, tokens, purges and figures live in memory until it stops;
--private-database or --database keeps them.

The first start makes an admin token and writes it to DATA/admin.token, unless
GERASTIC_ADMIN_TOKEN gives one. --policy is applied when the database has no policy
yet; after that, policies come through gerastic policy apply.

--control is where the control side listens. Every flag can be set in the environment
(--memory as GERASTIC_MEMORY; --database as GERASTIC_DATABASE_URL) or in DATA/node.yaml
(memory: 512MiB); the command line counts first, then the environment, then the file.`,
		Example: "  gerastic serve --origin http://127.0.0.1:3000\n  gerastic serve --private-database --policy policy.yaml --data /var/lib/gerastic",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := a.fromElsewhere(cmd); err != nil {
				return err
			}
			if err := a.settle(&s, o); err != nil {
				return err
			}
			return a.runNode(cmd.Context(), s)
		},
	}
	f := c.Flags()
	f.StringVar(&s.Edge, "edge", "127.0.0.1:8480", "address that visitors reach")
	f.StringVar(&o.memory, "memory", "256MiB", "memory that the store may use")
	f.StringVar(&o.disk, "disk", "0", "disk that the store may use below --data, everything counted; 0: none")
	f.StringVar(&o.diskWrites, "disk-writes", "64MiB/s", "how much may be written there; what is above it stays off the disk. 0: any")
	f.StringVar(&s.Database, "database", "", "PostgreSQL for the records, postgres://… (GERASTIC_DATABASE_URL)")
	f.BoolVar(&s.PrivateDatabase, "private-database", false, "start a PostgreSQL of its own below --data")
	f.StringVar(&s.Origin, "origin", "", "address of the application, for a policy that names none, or without a policy")
	f.BoolVar(&s.Development, "development", false, "for an engineer's machine: Cache-Status says key and reason, browsers ask each time, no act asks for confirmation; loopback only")
	f.StringVar(&s.PolicyFile, "policy", "", "policy file, applied when there is no policy yet")
	f.BoolVar(&s.PolicyForce, "policy-force", false, "apply --policy even if there is one")
	f.StringVar(&s.Secrets, "secrets", "", "directory of the files that the policy names with secret_file:NAME; nobody else may read them")
	f.StringVar(&s.Name, "node", "", "name of this node in ledger and figures; the machine's name if left out")
	f.DurationVar(&s.SyncLimit, "sync-limit", node.DefaultSyncLimit, "how long a node may go without knowing the ledger")
	f.StringVar(&o.whenLost, "when-lost", "revalidate", "what it does after that: revalidate everything before it is served, or serve on")
	f.StringVar(&o.logFormat, "log-format", "text", "text or json, to standard error")
	f.StringVar(&s.Certificate, "certificate", "", "certificate of the edge, PEM; it is taken anew when the file changes")
	f.StringVar(&s.CertificateKey, "certificate-key", "", "its key, PEM")
	f.StringSliceVar(&s.ControlHosts, "control-hosts", nil, "names under which the control side may be reached, beside addresses and localhost")
	f.IntVar(&s.PerAddress, "connections-per-address", 0, "connections that one address may have at a time; 0: as many as there may be in all. Not for --trust-proxy")
	f.StringSliceVar(&s.TrustProxies, "trust-proxy", nil, "address range whose forwarding headers are believed; nobody's by default")
	return c
}

// settle makes a node's settings of what the flags say, and of what is not a flag.
func (a *app) settle(s *node.Settings, o serveOptions) (err error) {
	if s.Memory, err = policy.ParseSize(o.memory); err != nil {
		return usage("--memory: %w", err)
	}
	if s.Disk, err = parseAmount(o.disk); err != nil {
		return usage("--disk: %w", err)
	}
	if s.DiskWrites, err = parseAmount(strings.TrimSuffix(o.diskWrites, "/s")); err != nil {
		return usage("--disk-writes: %w", err)
	}
	switch o.whenLost {
	case "revalidate", "serve":
		s.ServeOn = o.whenLost == "serve"
	default:
		return usage("--when-lost %q: it is revalidate or serve", o.whenLost)
	}
	if s.Log, err = logger(a.errs, o.logFormat); err != nil {
		return err
	}
	s.Control = strings.TrimPrefix(a.control, "http://")
	s.Data, s.Console, s.AdminToken = a.data, console.Files(), os.Getenv("GERASTIC_ADMIN_TOKEN")
	if s.Name == "" {
		if s.Name, err = os.Hostname(); err != nil {
			return usage("this machine has no name; pass --node NAME")
		}
	}
	return nil
}

// parseAmount reads a size that may be 0.
func parseAmount(text string) (int64, error) {
	if text == "0" {
		return 0, nil
	}
	return policy.ParseSize(text)
}

// runNode runs a node until it is interrupted or fails.
func (a *app) runNode(ctx context.Context, s node.Settings) (failure error) {
	s.OwnsProcess = true
	n, err := node.Start(ctx, s)
	if err != nil {
		return err
	}
	alone := ""
	if s.Alone() {
		alone = " records=memory (policies, tokens, purges and figures go with the process; --private-database or --database URL keeps them)"
	}
	fmt.Fprintf(a.out, "ready edge=%s control=%s%s\n", n.EdgeURL(), n.ControlURL(), alone)
	select {
	case <-ctx.Done():
	case failure = <-n.Failed():
	}
	ending, cancel := context.WithTimeout(context.Background(), stopTime)
	defer cancel()
	n.Stop(ending)
	return failure
}

// nodeSettings are the flags that may be set elsewhere, too.
var nodeSettings = []string{"edge", "control", "memory", "disk", "disk-writes", "database", "private-database", "origin", "development", "policy", "policy-force", "secrets", "node", "log-format", "sync-limit", "when-lost", "trust-proxy", "connections-per-address", "control-hosts", "certificate", "certificate-key"}

// fromElsewhere fills the flags that were not given from GERASTIC_… variables, and
// then from DATA/node.yaml.
func (a *app) fromElsewhere(c *cobra.Command) error {
	file, err := a.nodeFile()
	if err != nil {
		return err
	}
	database := c.Flags().Changed("database") || c.Flags().Changed("private-database")
	for _, name := range nodeSettings {
		variable := "GERASTIC_" + strings.ToUpper(strings.ReplaceAll(name, "-", "_"))
		if name == "database" {
			variable += "_URL"
		}
		if c.Flags().Changed(name) || database && strings.HasSuffix(name, "database") {
			continue
		}
		value, from := os.Getenv(variable), variable
		if value == "" {
			value, from = file[name], filepath.Join(a.data, "node.yaml")+": "+name
		}
		if value == "" {
			continue
		}
		if err := c.Flags().Set(name, value); err != nil {
			return usage("%s: %w", from, err)
		}
	}
	return nil
}

// nodeFile reads DATA/node.yaml; no settings if there is none.
func (a *app) nodeFile() (map[string]string, error) {
	path := filepath.Join(a.data, "node.yaml")
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var values map[string]string
	if err == nil {
		err = yaml.Unmarshal(text, &values)
	}
	if err != nil {
		return nil, usage("%s: %w", path, err)
	}
	for name := range values {
		if !slices.Contains(nodeSettings, name) {
			return nil, usage("%s: there is no setting %q; the settings are %s", path, name, strings.Join(nodeSettings, ", "))
		}
	}
	return values, nil
}

func logger(w io.Writer, format string) (*slog.Logger, error) {
	switch format {
	case "text":
		return slog.New(slog.NewTextHandler(w, nil)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(plainJSON(w), nil)), nil
	}
	return nil, usage("--log-format %q: it is text or json", format)
}
