package records

import (
	"context"
	"time"

	"gerastic/internal/core/meter"
	"gerastic/internal/core/tags"
)

// Records are what nodes keep besides what they store: the ledger of purges, policies, tokens, figures,
// findings, and how far changes of content were read. They are in a database, or in the memory of a
// node that runs alone. They are safe for concurrent use.
type Records interface {
	// Append puts purges into the ledger, one after the other in one transaction. The lock on the
	// ledger's one row lasts until the commit, so that sequences become visible in order. An error
	// that is ErrUnsure leaves open whether they are there.
	Append(ctx context.Context, node string, orders []Order, limit time.Duration) (w Written, err error)
	// Arrive registers a node, or one that may not have been waited for, and returns the
	// ledger's newest place. It waits for purges that are being written: those that were
	// not told to wait for this node are in the ledger when it returns. The name may be that of a
	// process that began at before, which is known to have ended, or of one that was not seen for
	// the limit; else the error is ErrNameTaken.
	Arrive(ctx context.Context, n Presence, applied tags.Stamp, before time.Time, limit time.Duration) (at Position, err error)
	// Seen is when a node was seen last; the zero time if it is not known.
	Seen(ctx context.Context, name string) (seen time.Time, err error)
	// Newest is the ledger's newest place.
	Newest(ctx context.Context) (at Position, err error)
	// Beat says that a node lives and how much of the ledger it has applied; ErrNotFound if
	// the others do not know it (any more), or know another process by its name.
	Beat(ctx context.Context, n Presence, applied tags.Stamp) error
	// Depart takes a node that stops off the list of those who are waited for.
	Depart(ctx context.Context, n Presence) error
	// Nodes lists the nodes, by name; those that were not seen for a day are forgotten.
	Nodes(ctx context.Context) ([]Node, error)
	// ForgetPurges drops what is older than anyone needs, but for the newest: see Place.
	ForgetPurges(ctx context.Context, now time.Time) error
	// Since returns the purges after a place, in the ledger's order, without what came
	// of them. Every reading checks that the place itself is still there: else it is
	// ErrOtherHistory.
	Since(ctx context.Context, after Position, limit int) ([]Entry, error)
	// Follow calls ledger whenever another node made the ledger grow, and applied whenever a node noted what
	// purges did there, until ctx ends or the connection fails.
	Follow(ctx context.Context, node string, ledger, applied func()) error
	// Acknowledge records what purges did on a node.
	Acknowledge(ctx context.Context, all []Ack) error
	// LastPurges returns the last purge that named each of some tags.
	LastPurges(ctx context.Context, names []string) (map[string]Purge, error)
	// Purges lists the ledger, newest first, before a sequence (0: from the end).
	Purges(ctx context.Context, before tags.Stamp, limit int) ([]Purge, error)
	// At returns the purge at a position, or ErrNotFound if the ledger has another one there, or none.
	At(ctx context.Context, at Position) (Purge, error)
	// Purge returns one entry of the ledger.
	Purge(ctx context.Context, sequence tags.Stamp) (Purge, error)

	// AddRevision keeps a policy and returns its number.
	AddRevision(ctx context.Context, source, actor, note string) (Revision, error)
	// LastRevision is the policy in force; ErrNotFound when there is none yet.
	LastRevision(ctx context.Context) (Revision, error)
	// Switch turns a route, or Everything, off or on.
	Switch(ctx context.Context, route string, off bool, actor string) error
	// Switches returns the routes that are switched off.
	Switches(ctx context.Context) (off map[string]bool, err error)

	// AddToken keeps a token for a secret. If the same secret is there already, it is
	// given these rights and is valid again.
	AddToken(ctx context.Context, t Token, secret string) (Token, error)
	// Tokens lists all, newest first.
	Tokens(ctx context.Context) ([]Token, error)
	// RevokeToken ends a token.
	RevokeToken(ctx context.Context, id string) error

	// SaveFigures adds what a node counted in the bucket that begins at.
	SaveFigures(ctx context.Context, node string, at time.Time, cells meter.Cells, madeUp bool) error
	// Figures sums what was counted from since until (exclusive), by route, outcome and
	// cause, in buckets of step (0: one bucket). route "" means all routes.
	Figures(ctx context.Context, since, until time.Time, step time.Duration, route string) ([]FigureRow, error)
	// CompactFigures merges old buckets into longer ones and forgets the oldest, so that
	// the table stays small. Nodes take turns.
	CompactFigures(ctx context.Context, now time.Time) error
	// MadeUpUntil is the end of the made-up history within a report, or nil.
	MadeUpUntil(ctx context.Context, since, until time.Time) (*time.Time, error)

	// AddMark puts a mark on the time line; without a time it is now.
	AddMark(ctx context.Context, m TimeMark) (TimeMark, error)
	// Marks lists what is on the time line, the newest first: purges, revisions, switches and what was added.
	Marks(ctx context.Context, q MarkQuery) ([]TimeMark, error)
	// ForgetMarks drops what is older than figures are.
	ForgetMarks(ctx context.Context, now time.Time) error

	// KeepSizes adds to the sizes of a minute.
	KeepSizes(ctx context.Context, sizes []Size) error
	// Sizes returns what there was from since until (exclusive), in order; of one node, or of all.
	Sizes(ctx context.Context, since, until time.Time, node string) ([]Size, error)
	// ForgetSizes drops what is older than anyone asks for.
	ForgetSizes(ctx context.Context, now time.Time) error

	// KeepHottest keeps what a node, of the life that began at started, was asked for most, in JSON. The
	// lists of its life and of the one before stay.
	KeepHottest(ctx context.Context, node string, started time.Time, list []byte) error
	// Hottest returns the list of a node's last life before the one that began at started; nil: there
	// is none.
	Hottest(ctx context.Context, node string, started time.Time) (list []byte, err error)

	// AddFinding keeps a finding, and forgets the oldest beyond the limit.
	AddFinding(ctx context.Context, f Finding) error
	// Findings lists those since a time, newest first.
	Findings(ctx context.Context, since time.Time, limit int) ([]Finding, error)

	// BeginOnward notes for each target that is not known that it has been told of everything until now.
	BeginOnward(ctx context.Context, targets []string) error
	// Onward tells how far each target was told, by name, and the ledger's newest place.
	Onward(ctx context.Context) (map[string]Onward, Position, error)
	// SaveOnward keeps how far a target was told, if it was at from until now; else it is ErrNotFound.
	SaveOnward(ctx context.Context, from Position, o Onward) error
	// ForgetOnward drops the targets, but for some, of which nothing was kept since a time.
	ForgetOnward(ctx context.Context, but []string, since time.Time) error

	// Sources returns the state of every source, by name.
	Sources(ctx context.Context) (map[string]Source, error)
	// Source returns the state of one source; a fresh one if it was never read.
	Source(ctx context.Context, name, kind string) (Source, error)
	// SaveSource keeps the state of a source.
	SaveSource(ctx context.Context, s Source) error
	// ForgetSource drops the state of a source that is no more.
	ForgetSource(ctx context.Context, name string) error
	// TakeLead takes the right to read a source; nil if another has it.
	TakeLead(ctx context.Context, source string) (Lead, error)
	// AddRun keeps a run, and returns its number.
	AddRun(ctx context.Context, run Run) (id int64, err error)
	// Runs lists the runs of a source ("" for all), newest first, before a number (0: from
	// the end).
	Runs(ctx context.Context, source string, before int64, limit int) ([]Run, error)
	// LastRun is the last run of a source that found something or failed.
	LastRun(ctx context.Context, source string) (Run, error)
	// Delays sums the times from commit to purged of each source since a time, and the
	// changes seen.
	Delays(ctx context.Context, since time.Time) (map[string]*meter.Histogram, map[string]int64, error)
	// SentBefore tells which items of a source were sent before.
	SentBefore(ctx context.Context, source string, ids []string) (map[string]bool, error)
	// NoteSent remembers the items of a source whose purges are in the ledger.
	NoteSent(ctx context.Context, source string, ids []string) error
	// ForgetRuns drops the runs, and the items sent, that are older than anyone needs; a run
	// that found nothing is of no use after a day.
	ForgetRuns(ctx context.Context, now time.Time) error

	// Ping reports whether the database answers.
	Ping(ctx context.Context) error
	// Close ends all connections.
	Close()
}

// Lead is the right to read a source: one on any number of nodes.
type Lead interface {
	// Held reports whether the right still stands.
	Held(ctx context.Context) bool
	// Close gives it back.
	Close()
}
