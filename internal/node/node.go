package node

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"gerastic.example/client/protocol"

	"gerastic/internal/control"
	"gerastic/internal/core/barrier"
	"gerastic/internal/core/fill"
	"gerastic/internal/core/fragment"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
	"gerastic/internal/detect"
	"gerastic/internal/edge"
	"gerastic/internal/fetch"
	"gerastic/internal/gate"
	"gerastic/internal/localpg"
	"gerastic/internal/onward"
	"gerastic/internal/prime"
	"gerastic/internal/records"
	"gerastic/internal/resident"
	"gerastic/internal/tasks"
	"gerastic/internal/warm"
	"gerastic/internal/watching"
)

// Node is a running node.
type Node struct {
	settings Settings
	log      *slog.Logger
	started  time.Time

	store     *store.Memory
	disk      *tier
	diskless  string // why there is no tier on disk although one is wanted; "" if there is
	resident  *resident.Keeper
	barrier   *barrier.Barrier
	meter     *meter.Meter
	edge      *edge.Edge
	control   *control.Control
	fragments *fragment.Fragments

	fragmentWatchers *watching.Watchers[fragment.Event]
	detect           *detect.Detector
	onward           *onward.Teller
	warm             *warm.Keeper
	primes           *prime.Primer
	hottest          []prime.Target // before this start
	cluster          *localpg.Cluster
	directory        *directory

	certificates                  *certificates // nil: cleartext
	edgeListener, controlListener *gate.Listener
	edgeServer, controlServer     *http.Server

	records atomic.Pointer[records.Records] // nil while the database cannot be reached
	tokens  atomic.Pointer[tokenTable]
	ledger  follower
	owed    *owed // to the ledger
	figures backlog
	sizes   sizes

	releasing    sync.Mutex // held while the releases that answer are kept
	editMu       sync.Mutex // held while the policy in force is edited
	policyMu     sync.Mutex // one change of policy or switches at a time
	rules        atomic.Pointer[policyState]
	policySource []byte                         // of --policy
	unread       atomic.Pointer[string]         // why the newest revision is not in force here; nil: it is
	others       atomic.Pointer[[]records.Node] // all nodes, as the database had them last

	tasks    *tasks.Group
	failed   chan error
	stopOnce sync.Once
}

// Start starts a node; it returns when visitors can be served. A database that cannot
// be reached stops the start only if there is no policy kept on disk to serve by.
func Start(ctx context.Context, s Settings) (*Node, error) {
	if err := s.check(); err != nil {
		return nil, err
	}
	directory, err := openDirectory(s.Data, s.Log)
	if err != nil {
		return nil, err
	}
	n := &Node{directory: directory, settings: s, log: s.Log, started: time.Now().Truncate(time.Microsecond), failed: make(chan error, 2)}
	n.ledger = follower{sweeps: map[tags.Stamp]*sweep{}, unswept: map[tags.Stamp]*sweep{}, orders: make(chan *pendingPurge, batch), counted: make(chan *sweep, batch)}
	n.tasks = tasks.NewGroup()
	epoch := time.Now() // by both clocks
	n.store = store.NewMemory(s.Memory, epoch)
	marks := tags.NewMarks(0, tags.DefaultLimit)
	n.openDisk(marks, epoch)
	n.barrier = barrier.New(marks, n.store)
	n.barrier.KeepWithin(s.Memory / 8)
	if s.ServeOn {
		n.barrier.ServeOnWhenLost()
	}
	n.barrier.KnowUntil(n.started) // nothing is known of the ledger yet
	n.meter = &meter.Meter{}
	leases := fill.NewLeases(fill.MaxLeases, n.barrier.Stamp)
	n.barrier.Guard(leases)
	n.edge = edge.New(edge.Config{Store: n.store, Barrier: n.barrier, Meter: n.meter, Log: s.Log, Now: time.Now, Trusted: s.trusted, Streams: int64(s.Connections()),
		MayExplain: func(token string) bool {
			t, ok := n.TokenFor(token)
			return ok && t.May(records.Read)
		},
		Development: s.Development, Found: n.found, Released: n.released,
		Purge: n.Invalidate})
	n.fragmentWatchers = watching.New[fragment.Event](n.tasks)
	n.fragments = &fragment.Fragments{Store: n.store, Barrier: n.barrier, Meter: n.meter, Leases: leases, Now: time.Now, On: n.nameOn, AtMost: n.atMost, Audience: n.fragmentWatchers}
	n.warm = warm.New(warm.Parts{Site: n.edge, Base: n.EdgeURL, Previous: n.previous, Tasks: n.tasks, Log: s.Log})
	n.primes = &prime.Primer{Site: n.edge, Base: n.EdgeURL, Previous: n.previous, Tasks: n.tasks}
	n.onward = onward.New(onward.Parts{Log: s.Log, Records: n.Records})
	n.detect = detect.New(detect.Parts{Node: s.Name, Log: s.Log, Records: n.Records, Purge: n.Purge})
	n.tokens.Store(&tokenTable{})
	n.rules.Store(&policyState{})
	n.control = control.New(control.Config{Node: n, Edge: n.edge, Store: n.store, Barrier: n.barrier, Meter: n.meter, Console: s.Console, Log: s.Log, Now: time.Now, Hosts: s.ControlHosts})
	if err := n.start(ctx); err != nil {
		n.Stop(ctx)
		return nil, err
	}
	return n, nil
}

func (n *Node) start(ctx context.Context) (err error) {
	if n.settings.Certificate != "" {
		if n.certificates, err = loadCertificates(n.settings.Certificate, n.settings.CertificateKey); err != nil {
			return err
		}
	}
	// Listening comes first: an address in use is the commonest mistake, and costs
	// nothing to find out.
	if n.edgeListener, err = bind("--edge", n.settings.Edge, n.settings.visitors()); err != nil {
		return err
	}
	if n.controlListener, err = bind("--control", n.settings.Control, gate.Options{Connections: controlConnections}); err != nil {
		return err
	}
	if n.settings.PrivateDatabase {
		n.cluster, err = localpg.Start(ctx, localpg.Options{Dir: filepath.Join(n.settings.Data, "postgresql"), Throwaway: n.settings.Throwaway})
		if err != nil {
			return err
		}
		if n.settings.Database, err = n.cluster.CreateDatabase(ctx, "gerastic"); err != nil {
			return err
		}
	}
	if n.owed, err = openOwed(filepath.Join(n.settings.Data, "invalidations.owed")); err != nil {
		return err
	}
	if err := n.forgetOwed(); err != nil {
		return err
	}
	n.tasks.Go(n.writeOrders)
	n.tasks.Go(n.noteSweeps)
	if err := n.checkPolicyFile(); err != nil {
		return err
	}
	if err := n.connect(ctx); errors.Is(err, records.ErrNameTaken) || err != nil && n.settings.Alone() {
		return err
	} else if err != nil {
		if kept := n.keptPolicy(); kept == nil {
			return fmt.Errorf("the database cannot be used, and no policy is kept in %s to serve by: %w", n.settings.Data, err)
		}
		n.log.Error("the database cannot be used; serving by the policy kept on disk", "error", err)
	}
	n.loadReleases()
	n.serve()
	n.goOn()
	return nil
}

// goOn begins what goes on until the node stops.
func (n *Node) goOn() {
	n.loadHottest()
	all := []func(){n.keepConnected, n.keepHottest, n.flushFigures, n.tidy, n.beat, func() { n.warm.Run(n.tasks.Life()) }, func() { n.store.Tell(n.tasks.Life()) }}
	if n.disk != nil {
		all = append(all, n.confirmDisk, func() { n.store.Descend(n.tasks.Life()) })
	}
	n.resident = resident.New(n.settings.Memory, n.store)
	if n.settings.OwnsProcess {
		all = append(all, func() { n.resident.Watch(n.tasks.Life()) })
	}
	if n.cluster != nil {
		all = append(all, func() { n.cluster.Keep(n.tasks.Life(), n.log) })
	}
	if n.certificates != nil {
		all = append(all, n.watchCertificates)
	}
	for _, one := range all {
		n.tasks.Go(one)
	}
}

// Failed delivers the error of a listener that broke.
func (n *Node) Failed() <-chan error { return n.failed }

// EdgeURL is where visitors go.
func (n *Node) EdgeURL() string {
	if n.certificates != nil {
		return "https://" + n.edgeListener.Addr().String()
	}
	return "http://" + n.edgeListener.Addr().String()
}

// ControlURL is where the API and the console are.
func (n *Node) ControlURL() string { return "http://" + n.controlListener.Addr().String() }

// DatabaseURL is the connection string in use.
func (n *Node) DatabaseURL() string { return n.settings.Database }

// Stop lets requests under way end (as long as ctx allows), writes the last figures,
// and stops everything that Start started.
func (n *Node) Stop(ctx context.Context) {
	n.stopOnce.Do(func() {
		if n.control != nil {
			n.control.Close()
		}
		requests, cancel := n.requestsTime(ctx)
		defer cancel()
		for _, s := range []*http.Server{n.edgeServer, n.controlServer} {
			if s != nil && s.Shutdown(requests) != nil {
				s.Close()
			}
		}
		n.detect.Stop()
		n.onward.Stop()
		if err := n.edge.Shutdown(requests); err != nil {
			n.log.Warn("what goes on behind visitors did not end in time", "error", err)
		}
		_ = n.tasks.Shutdown(context.WithoutCancel(ctx)) // each of them ends with the group's life
		for _, l := range []*gate.Listener{n.edgeListener, n.controlListener} {
			if l != nil {
				l.Close()
			}
		}
		n.saveFigures(context.WithoutCancel(ctx))
		if rec := n.known(); rec != nil {
			n.records.Store(nil)
			ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
			_ = rec.Depart(ctx, n.presence()) // else it is not waited for once the sync limit has passed
			cancel()
			rec.Close()
		}
		n.saveHottest(ctx, nil)
		n.closeDisk(ctx) // after others know that nobody waits for this node
		if n.cluster != nil {
			n.cluster.Stop()
		}
		if n.owed != nil {
			n.owed.close()
		}
		n.directory.close()
	})
}

// Name is the node's name in the ledger and the figures.
func (n *Node) Name() string { return n.settings.Name }

// Fragments are what applications store.
func (n *Node) Fragments() *fragment.Fragments { return n.fragments }

// FragmentWatchers implements control.Node.
func (n *Node) FragmentWatchers() *watching.Watchers[fragment.Event] { return n.fragmentWatchers }

// Changes finds changes of content.
func (n *Node) Changes() *detect.Detector { return n.detect }

// Onward tells caches and services beyond of purges.
func (n *Node) Onward() *onward.Teller { return n.onward }

// nameOn reports whether fragments of a name are switched on; all are as long as there is no
// policy.
func (n *Node) nameOn(name string) bool {
	inForce := n.edge.Policy()
	return inForce == nil || inForce.NameOn(name)
}

// found keeps what a comparison of a hit with its origin found.
func (n *Node) found(f fetch.Finding) {
	switch {
	case strings.HasPrefix(f.Kind, "unkeyed-"):
		n.log.Warn("the key leaves out what comes with many requests", "route", f.Route, "what", f.Separator)
	case f.Kind == fetch.UnreadWrite:
		n.log.Warn("a write purged more than it named", "write", f.Route, "url", f.URL, "why", f.Separator)
	default:
		n.log.Warn("a hit was not what the origin would have answered", "kind", f.Kind, "route", f.Route, "url", f.URL, "separator", f.Separator)
	}
	rec, err := n.Records()
	if err == nil {
		err = rec.AddFinding(n.tasks.Life(), records.Finding{At: f.At, Node: n.settings.Name, Route: f.Route, URL: protocol.Textual(f.URL), Key: protocol.Textual(f.Key), Kind: f.Kind, Stored: f.Stored, Origin: f.Origin, Separator: protocol.Textual(f.Separator)})
	}
	if err != nil {
		n.log.Warn("a finding could not be kept", "error", err)
	}
}

// note puts on the time line what nobody waits for.
func (n *Node) note(m records.TimeMark) {
	rec, err := n.Records()
	if err == nil {
		_, err = rec.AddMark(n.tasks.Life(), m)
	}
	if err != nil {
		n.log.Warn("what happened could not be put on the time line", "what", m.Kind, "name", m.Name, "error", err)
	}
}
