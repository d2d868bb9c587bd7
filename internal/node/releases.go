package node

import (
	"encoding/json"
	"os"
	"path/filepath"
	"time"

	"gerastic.example/client/protocol"

	"gerastic/internal/fetch"
	"gerastic/internal/records"
)

// Which release of the application answers on a route is kept in the node's directory, so that another one
// is told from it after a start, too: what is on disk may be of the older.

func (n *Node) releasesPath() string { return filepath.Join(n.settings.Data, "releases.json") }

func (n *Node) loadReleases() {
	all := map[string]string{}
	text, err := os.ReadFile(n.releasesPath())
	if err == nil && json.Unmarshal(text, &all) != nil {
		n.log.Warn("which releases answered before the start cannot be read", "file", n.releasesPath())
	}
	n.edge.RememberReleases(all)
}

// released keeps which release answers now, and puts one that follows another on the time line.
func (n *Node) released(r fetch.Release) {
	n.tasks.Go(func() {
		n.releasing.Lock()
		defer n.releasing.Unlock()
		text, err := json.Marshal(n.edge.Releases())
		if err == nil {
			err = writeWhole(n.releasesPath(), text)
		}
		if err != nil {
			n.log.Warn("which release answers could not be kept", "error", err)
		}
		if r.Before != "" {
			n.note(records.TimeMark{At: time.Now(), Kind: records.MarkRelease, Name: protocol.Textual(r.Name), Actor: n.settings.Name, Detail: r.Route})
		}
	})
}
