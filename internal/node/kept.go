package node

import (
	"encoding/json"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"

	"gerastic/internal/core/policy"
	"gerastic/internal/records"
)

// What a node keeps on disk to serve by when it starts without a database.
func (n *Node) keptPolicyPath() string   { return filepath.Join(n.settings.Data, "policy.kept.yaml") }
func (n *Node) keptSwitchesPath() string { return filepath.Join(n.settings.Data, "switches.kept.json") }

// keepRules keeps the policy in force and its switches, each whole or not at all. The switches
// come first: a route that is off must not be served from the store by mistake.
func (n *Node) keepRules(revision records.Revision, off map[string]bool) {
	names, err := json.Marshal(map[string][]string{"off": slices.Sorted(maps.Keys(off))})
	if err == nil {
		err = writeWhole(n.keptSwitchesPath(), append(names, '\n'))
	}
	if err == nil {
		err = writeWhole(n.keptPolicyPath(), []byte(revision.Source))
	}
	if err != nil {
		n.log.Warn("the policy could not be kept on disk", "error", err)
	}
}

// keptPolicy puts the policy of the last run in force, for a start without a database;
// nil if there is none.
func (n *Node) keptPolicy() *policy.Policy {
	source, err := os.ReadFile(n.keptPolicyPath())
	if err != nil {
		return nil
	}
	p, err := n.parse(policyName, source)
	if err != nil {
		n.log.Error("the policy that is kept on disk does not hold", "error", err)
		return nil
	}
	off := n.keptSwitches()
	n.rules.Store(&policyState{revision: records.Revision{Source: string(source), Note: "kept on disk"}, off: off})
	n.edge.Apply(inForce(p, off))
	return p
}

// keptSwitches are the switches of the last run. When they cannot be read, everything is off:
// then each request goes through to its origin.
func (n *Node) keptSwitches() map[string]bool {
	var kept struct {
		Off []string `json:"off"`
	}
	text, err := os.ReadFile(n.keptSwitchesPath())
	if os.IsNotExist(err) {
		return map[string]bool{} // kept by a program that knew no switches on disk
	}
	if err == nil {
		err = json.Unmarshal(text, &kept)
	}
	if err != nil {
		n.log.Error("the switches that are kept on disk cannot be read; everything is off", "error", err)
		kept.Off = []string{records.Everything}
	}
	off := map[string]bool{}
	for _, name := range kept.Off {
		off[name] = true
	}
	return off
}

// writeWhole replaces a file whole or not at all, whenever the process or the machine ends.
func writeWhole(path string, text []byte) error {
	half, err := os.CreateTemp(filepath.Dir(path), filepath.Base(path)+".half-*")
	if err != nil {
		return err
	}
	defer os.Remove(half.Name()) // if it has not become the file
	_, err = half.Write(text)
	if err == nil {
		err = half.Sync()
	}
	if closed := half.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = os.Rename(half.Name(), path)
	}
	if err != nil || runtime.GOOS == "windows" { // where directories cannot be written out
		return err
	}
	dir, err := os.Open(filepath.Dir(path))
	if err != nil {
		return err
	}
	defer dir.Close()
	return dir.Sync()
}
