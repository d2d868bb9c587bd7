package node

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gerastic/internal/core/key"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/tags"
	"gerastic/internal/keyset"
	"gerastic/internal/records"
	"gerastic/internal/secrets"
)

// policyState is what is in force: a revision with its switches.
type policyState struct {
	revision records.Revision
	off      map[string]bool
}

// inForce is a policy with its switches.
func inForce(p *policy.Policy, off map[string]bool) *policy.InForce {
	return &policy.InForce{Policy: p, Off: off, AllOff: off[records.Everything]}
}

// connect opens the database and brings the node in step with it.
func (n *Node) connect(ctx context.Context) error {
	rec, err := n.openRecords(ctx)
	if err != nil {
		return err
	}
	if err := n.adopt(ctx, rec); err != nil {
		rec.Close()
		return err
	}
	n.records.Store(&rec)
	n.note(records.TimeMark{At: n.started, Kind: records.MarkRestart, Name: n.settings.Name, Actor: n.settings.Name})
	return nil
}

func (n *Node) openRecords(ctx context.Context) (records.Records, error) {
	if n.settings.Alone() {
		return records.NewAlone(), nil
	}
	return records.Open(ctx, n.settings.Database)
}

// known are the records; nil while the database cannot be reached.
func (n *Node) known() records.Records {
	if rec := n.records.Load(); rec != nil {
		return *rec
	}
	return nil
}

// parse reads a policy as this node does.
func (n *Node) parse(name string, source []byte) (*policy.Policy, error) {
	secret := secrets.Reader(n.settings.Secrets)
	if secret == nil {
		secret = secrets.None
	}
	return policy.Outside{Lookup: os.LookupEnv, Secret: secret, Keys: keyset.Opener{Log: n.log}, Origin: n.settings.origin, Development: n.settings.Development}.Parse(name, source)
}

// adopt takes the place in the ledger, tokens and policy over from the database.
func (n *Node) adopt(ctx context.Context, rec records.Records) error {
	began := time.Now()
	at, err := n.arrive(ctx, rec)
	if err != nil {
		return err
	}
	n.ledger.mu.Lock()
	served := n.ledger.at == (records.Position{}) && at.Sequence > 0 && !n.disk.isFresh()
	if served {
		// What was stored while there was no ledger may have been purged meanwhile.
		n.barrier.Apply(tags.Purge{Sequence: at.Sequence, All: true})
		n.ledger.at = at
	}
	n.ledger.mu.Unlock()
	if !n.believesDisk(ctx, rec) {
		n.doubtAll()
	}
	if n.owed.len() == 0 {
		n.knows(began) // else when that is paid
	}
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
	if n.policySource != nil && (fresh || n.settings.PolicyForce && n.settings.PolicyFile != "") {
		if err := n.applyFile(ctx, rec); err != nil {
			return err
		}
	}
	if err := n.reloadShared(ctx, rec); err != nil {
		return err
	}
	n.tellOtherFile()
	return nil
}

// tellOtherFile says that the policy in force is not the one of --policy.
func (n *Node) tellOtherFile() {
	if inForce := n.Revision(); n.settings.PolicyFile != "" && inForce.Source != string(n.policySource) {
		n.log.Warn("the policy in force is not what the file of --policy says; apply it with gerastic policy apply, or start with --policy-force", "revision", inForce.Number, "by", inForce.Actor, "note", inForce.Note, "file", n.settings.PolicyFile)
	}
}

// arrive makes this node one of those that purges wait for. A name whose node has just died is
// free as soon as nobody waits for that one any more; at once, if it was this directory's.
func (n *Node) arrive(ctx context.Context, rec records.Records) (records.Position, error) {
	before := n.lifeBefore()
	var first time.Time
	for {
		at, err := rec.Arrive(ctx, n.presence(), n.barrier.Stamp(), before, n.settings.SyncLimit)
		if !errors.Is(err, records.ErrNameTaken) {
			if err == nil {
				n.keepLife()
			}
			return at, err
		}
		seen, again := rec.Seen(ctx, n.settings.Name)
		if again != nil {
			return at, again
		}
		if first.IsZero() {
			n.log.Warn("a node of this name was seen a moment ago; waiting to see whether it lives", "node", n.settings.Name)
			first = seen
		}
		if seen.After(first) {
			return at, fmt.Errorf("%w; %q is taken", records.ErrNameTaken, n.settings.Name)
		}
		select {
		case <-ctx.Done():
			return at, ctx.Err()
		case <-n.tasks.Life().Done():
			return at, records.ErrStopping
		case <-time.After(n.beatEvery() / 2):
		}
	}
}

// lifePath is where a node notes when it began, so that the next to start in its directory
// knows that it has ended: the directory is locked.
func (n *Node) lifePath() string { return filepath.Join(n.settings.Data, "started") }

func (n *Node) lifeBefore() (began time.Time) {
	if text, err := os.ReadFile(n.lifePath()); err == nil {
		_ = began.UnmarshalText(bytes.TrimSpace(text)) // else it is not known
	}
	return began
}

func (n *Node) keepLife() {
	text, err := n.started.UTC().MarshalText()
	if err == nil {
		err = writeWhole(n.lifePath(), append(text, '\n'))
	}
	if err != nil {
		n.log.Warn("when this node began could not be noted", "error", err)
	}
}

// checkPolicyFile says what is wrong with the policy file named at the start, before anything
// depends on it.
func (n *Node) checkPolicyFile() (err error) {
	if n.settings.PolicyFile == "" {
		return n.usePlainPolicy()
	}
	if n.policySource, err = os.ReadFile(n.settings.PolicyFile); err != nil {
		return fmt.Errorf("reading --policy: %w", err)
	}
	_, err = n.parse(n.settings.PolicyFile, n.policySource)
	return err
}

// plainPolicy stores what the origin allows, of everything.
const plainPolicy = `version: 1
routes:
  - name: all
    match: { path: "/{rest...}" }
`

// usePlainPolicy takes the plain policy for a node that was given an origin, and no policy file.
func (n *Node) usePlainPolicy() error {
	if n.settings.origin != nil {
		n.policySource = []byte(plainPolicy)
	}
	return nil
}

// applyFile makes the policy file named at the start the next revision.
func (n *Node) applyFile(ctx context.Context, rec records.Records) error {
	n.settings.PolicyForce = false // once, not at every reconnection
	from := "what --origin allows"
	if n.settings.PolicyFile != "" {
		from = "from " + filepath.Base(n.settings.PolicyFile)
	}
	_, err := rec.AddRevision(ctx, string(n.policySource), "start", from)
	return err
}

// reloadShared takes over what another node may have changed: policy, switches, tokens.
func (n *Node) reloadShared(ctx context.Context, rec records.Records) error {
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
	if err := n.enforce(revision, off); err != nil {
		return err
	}
	return n.onward.Begin(ctx, rec)
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
	p, err := n.parse(policyName, []byte(revision.Source))
	if err != nil {
		return n.cannotRead(revision, off, err)
	}
	n.unread.Store(nil)
	n.rules.Store(&policyState{revision, off})
	before := n.edge.Policy()
	n.edge.Apply(inForce(p, off))
	if before != nil {
		n.tasks.Go(func() { n.freeStranded(before.Policy, p) })
	}
	n.detect.Apply(p.Changes)
	n.onward.Apply(p.Onward)
	n.fragments.KeepWarm(p.WarmFragments())
	n.keepRules(revision, off)
	n.log.Info("policy in force", "revision", revision.Number, "routes", len(p.Routes), "switched_off", len(off))
	return nil
}

// cannotRead keeps what is in force, but for the switches, when a revision does not hold on
// this node: another one runs a newer program, or has other variables in its environment.
func (n *Node) cannotRead(revision records.Revision, off map[string]bool, why error) error {
	now := n.rules.Load()
	if now.revision.Source == "" && n.keptPolicy() == nil {
		return fmt.Errorf("revision %d does not hold on this node, and no other is kept in %s to serve by: %w", revision.Number, n.settings.Data, why)
	}
	now = n.rules.Load()
	text := fmt.Sprintf("revision %d does not hold on this node, and what was in force before stays: %v", revision.Number, why)
	if before := n.unread.Swap(&text); before == nil || *before != text {
		n.log.Error("a revision does not hold on this node; what was in force before stays", "revision", revision.Number, "error", why)
	}
	if !sameSwitches(now.off, off) {
		n.rules.Store(&policyState{now.revision, off})
		n.edge.Apply(inForce(n.edge.Policy().Policy, off))
		n.keepRules(now.revision, off)
	}
	return nil
}

// ApplyPolicy checks a policy, keeps it as a revision and puts it in force.
func (n *Node) ApplyPolicy(ctx context.Context, source, actor, note string) (records.Revision, error) {
	if _, err := n.parse(policyName, []byte(source)); err != nil {
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

// EditPolicy changes the policy in force, as ApplyPolicy does with a whole one. One changes it at a time.
func (n *Node) EditPolicy(ctx context.Context, edit func(source string) (string, error), actor, note string) (records.Revision, error) {
	n.editMu.Lock()
	defer n.editMu.Unlock()
	rec, err := n.Records()
	if err != nil {
		return records.Revision{}, err
	}
	last, err := rec.LastRevision(ctx) // another node may have changed it just now
	if err != nil {
		return last, err
	}
	source, err := edit(last.Source)
	if err != nil {
		return records.Revision{}, err
	}
	return n.ApplyPolicy(ctx, source, actor, note)
}

// ReadPolicy reads a policy as it would be in force here.
func (n *Node) ReadPolicy(source string) (*policy.Policy, error) {
	return n.parse(policyName, []byte(source))
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

// strandedAfter is how long what a change of policy has stranded is kept, for somebody who takes the
// change back at once.
const strandedAfter = 5 * time.Second

// freeStranded frees the entries whose keys no request has under a new policy, if that is in force still.
func (n *Node) freeStranded(before, now *policy.Policy) {
	names := map[string]string{}
	for _, r := range now.Routes {
		names[r.Name] = r.KeyName
	}
	if !slices.ContainsFunc(before.Routes, func(r *policy.Route) bool { return names[r.Name] != r.KeyName }) {
		return
	}
	n.pause(strandedAfter)
	if n.edge.Policy().Policy != now {
		return
	}
	gone := n.store.FreeStranded(func(route, stored string) bool {
		name, known := names[route]
		return strings.Contains(route, "/") || known && strings.HasPrefix(stored, key.Beginning(name)) // fragments have keys of their own
	})
	n.log.Info("what the change of policy had stranded is freed", "entries", gone)
}
