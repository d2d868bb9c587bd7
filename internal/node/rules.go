package node

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"gerastic/internal/core/policy"
	"gerastic/internal/core/tags"
	"gerastic/internal/records"
)

// ruleState is what is in force: a revision with its switches.
type ruleState struct {
	revision records.Revision
	off      map[string]bool
}

// connect opens the database and brings the node in step with it.
func (n *Node) connect(ctx context.Context) error {
	rec, err := records.Open(ctx, n.settings.Database)
	if err != nil {
		return err
	}
	if err := n.adopt(ctx, rec); err != nil {
		rec.Close()
		return err
	}
	n.records.Store(rec)
	return nil
}

// adopt takes sequence, tokens and policy over from the database.
func (n *Node) adopt(ctx context.Context, rec *records.Records) error {
	began := time.Now()
	sequence, err := rec.Arrive(ctx, n.presence(), n.marks.Stamp())
	if err != nil {
		return err
	}
	n.ledger.mu.Lock()
	if n.ledger.applied < sequence {
		// What was stored while there was no ledger may have been purged meanwhile.
		n.marks.Apply(tags.Purge{Sequence: sequence, All: true})
		n.ledger.applied = sequence
	}
	n.ledger.mu.Unlock()
	n.knows(began)
	if err := n.adminToken(ctx, rec); err != nil {
		return err
	}
	if err := n.loadTokens(ctx, rec); err != nil {
		return err
	}
	_, err = rec.LastRevision(ctx)
	fresh := errors.Is(err, records.ErrNotFound)
	if err != nil && !fresh {
		return err
	}
	if n.settings.PolicyFile != "" && (fresh || n.settings.PolicyForce) {
		if err := n.applyFile(ctx, rec); err != nil {
			return err
		}
	}
	return n.reloadShared(ctx, rec)
}

// applyFile makes the rule file named at the start the next revision.
func (n *Node) applyFile(ctx context.Context, rec *records.Records) error {
	source, err := os.ReadFile(n.settings.PolicyFile)
	if err != nil {
		return fmt.Errorf("reading --policy: %w", err)
	}
	if _, err := policy.Parse(n.settings.PolicyFile, source, os.LookupEnv); err != nil {
		return err
	}
	n.settings.PolicyForce = false // once, not at every reconnection
	_, err = rec.AddRevision(ctx, string(source), "start", "from "+filepath.Base(n.settings.PolicyFile))
	return err
}

// reloadShared takes over what another node may have changed: policy, switches, tokens.
func (n *Node) reloadShared(ctx context.Context, rec *records.Records) error {
	if err := n.loadTokens(ctx, rec); err != nil {
		return err
	}
	n.policyMu.Lock()
	defer n.policyMu.Unlock()
	revision, err := rec.LastRevision(ctx)
	if errors.Is(err, records.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	off, err := rec.Switches(ctx)
	if err != nil {
		return err
	}
	now := n.rules.Load()
	if now.revision.Number == revision.Number && sameSwitches(now.off, off) {
		return nil
	}
	return n.enforce(revision, off)
}

func sameSwitches(a, b map[string]bool) bool {
	if len(a) != len(b) {
		return false
	}
	for name := range a {
		if !b[name] {
			return false
		}
	}
	return true
}

// policyName is what messages call a policy that came through the API.
const policyName = "policy.yaml"

// enforce compiles a revision and puts it in force. Under policyMu.
func (n *Node) enforce(revision records.Revision, off map[string]bool) error {
	p, err := policy.Parse(policyName, []byte(revision.Source), os.LookupEnv)
	if err != nil {
		return fmt.Errorf("revision %d does not hold on this node: %w", revision.Number, err)
	}
	n.rules.Store(&ruleState{revision, off})
	n.edge.Apply(p, off, off[records.Everything])
	n.detect.Apply(p.Changes)
	if err := os.WriteFile(n.keptPath(), []byte(revision.Source), 0o600); err != nil {
		n.log.Warn("the policy could not be kept on disk", "error", err)
	}
	n.log.Info("policy in force", "revision", revision.Number, "routes", len(p.Routes), "switched_off", len(off))
	return nil
}

func (n *Node) keptPath() string { return filepath.Join(n.settings.Data, "policy.kept.yaml") }

// keptPolicy puts the policy of the last run in force, for a start without a database;
// nil if there is none.
func (n *Node) keptPolicy() *policy.Policy {
	source, err := os.ReadFile(n.keptPath())
	if err != nil {
		return nil
	}
	p, err := policy.Parse(policyName, source, os.LookupEnv)
	if err != nil {
		return nil
	}
	n.rules.Store(&ruleState{revision: records.Revision{Source: string(source), Note: "kept on disk"}})
	n.edge.Apply(p, nil, false)
	return p
}

// ApplyPolicy checks a rule file, keeps it as a revision and puts it in force.
func (n *Node) ApplyPolicy(ctx context.Context, source, actor, note string) (records.Revision, error) {
	if _, err := policy.Parse(policyName, []byte(source), os.LookupEnv); err != nil {
		return records.Revision{}, err
	}
	rec, err := n.Records()
	if err != nil {
		return records.Revision{}, err
	}
	revision, err := rec.AddRevision(ctx, source, actor, note)
	if err != nil {
		return revision, err
	}
	return revision, n.reloadShared(context.WithoutCancel(ctx), rec)
}

// Revision is the policy in force.
func (n *Node) Revision() records.Revision { return n.rules.Load().revision }

// Switch turns a route, or records.Everything, off or on.
func (n *Node) Switch(ctx context.Context, route string, off bool, actor string) error {
	rec, err := n.Records()
	if err != nil {
		return err
	}
	if err := rec.Switch(ctx, route, off, actor); err != nil {
		return err
	}
	return n.reloadShared(context.WithoutCancel(ctx), rec)
}
