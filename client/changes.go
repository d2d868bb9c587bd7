package client

import (
	"context"
	"net/url"
	"strconv"
	"time"
)

// Change is one thing of the content that was created, updated or deleted.
type Change struct {
	ID     string     `json:"id,omitempty" maxLength:"200" doc:"A name of its own: what is sent twice under one name counts once"`
	Kind   string     `json:"kind" minLength:"1" maxLength:"200" doc:"The kind of thing, as the rules name it"`
	Op     string     `json:"op,omitempty" enum:"create,update,delete"`
	Before any        `json:"before,omitempty" doc:"Its values before, a JSON object"`
	After  any        `json:"after,omitempty" doc:"Its values now, a JSON object"`
	At     *time.Time `json:"at,omitempty" doc:"When it was committed"`
}

// ChangeRun is one reading of a source of changes, or one sending.
type ChangeRun struct {
	Run     int64     `json:"run"`
	Source  string    `json:"source"`
	Trigger string    `json:"trigger" doc:"schedule, asked, notice, log or call"`
	Node    string    `json:"node"`
	Began   time.Time `json:"began"`
	TookMS  float64   `json:"took_ms"`
	Changes int64     `json:"changes" doc:"Changes seen"`
	Skipped int64     `json:"skipped" doc:"Of them, changes that no rule counted"`
	Tags    int64     `json:"tags" doc:"Tags purged"`
	Entries int64     `json:"entries" doc:"Entries that went"`
	Purges  []int64   `json:"purges" doc:"Their places in the ledger, the first thousand"`
	Error   string    `json:"error,omitempty" doc:"What broke it off, or was left out"`
}

// SourceStatus is how a source of changes is.
type SourceStatus struct {
	Name       string     `json:"name"`
	Kind       string     `json:"kind" enum:"table,notify,replication,webhook"`
	Well       bool       `json:"well" doc:"It has kept its promise"`
	Why        string     `json:"why,omitempty" doc:"Why it is not well"`
	Note       string     `json:"note,omitempty" doc:"What else to know of it"`
	Node       string     `json:"node,omitempty" doc:"That reads it"`
	Checked    *time.Time `json:"checked,omitempty" doc:"All that was committed before has been purged"`
	WithinS    float64    `json:"within_s" doc:"Its promise: checked is never longer ago, in seconds"`
	Changes    int64      `json:"changes" doc:"Seen in the last day"`
	DelayP50MS *float64   `json:"delay_p50_ms" doc:"From commit to purged, median of the last day"`
	DelayP99MS *float64   `json:"delay_p99_ms" doc:"The same, 99th percentile"`
	Behind     *int64     `json:"behind_bytes,omitempty" doc:"Of the database's log that is not read yet"`
	Retained   *int64     `json:"retained_bytes,omitempty" doc:"Of the database's log that the slot holds back"`
	KeepAtMost int64      `json:"keep_at_most_bytes,omitempty" doc:"How much it may hold back"`
	LastRun    *ChangeRun `json:"last_run,omitempty" doc:"The last that found something or failed"`
}

// ChangesStatus is how all sources of changes are.
type ChangesStatus struct {
	Well    bool           `json:"well" doc:"Every source has kept its promise; the call answers 200 then, else 503"`
	Why     string         `json:"why,omitempty" doc:"The sources that have not"`
	Sources []SourceStatus `json:"sources"`
	Rules   int            `json:"rules" doc:"Rules in force"`
}

// ChangeEffect is what one rule makes of a change.
type ChangeEffect struct {
	Rule  int      `json:"rule" doc:"Its place among the rules, from 1"`
	Fired bool     `json:"fired"`
	Why   string   `json:"why,omitempty" doc:"Why it does not count, or what is uncertain"`
	Mode  string   `json:"mode" enum:"drop,stale"`
	Tags  []string `json:"tags"`
	Query string   `json:"query,omitempty" doc:"Of the rule's also, which gave some of the tags"`
}

// ChangeTrial is what the rules make of a change that did not happen.
type ChangeTrial struct {
	Effects []ChangeEffect `json:"effects"`
	Kinds   []string       `json:"kinds" doc:"Kinds that the rules know"`
}

// SendChanges tells of changes, after their commit; source "" where the policy has one
// webhook, or none. It returns when what they make stale is purged. StatusOf the error is 422
// if the policy has no such webhook, or several and none is named, and 503 while the ledger
// cannot be written to: then send them again.
func (c *Client) SendChanges(ctx context.Context, source string, changes ...Change) (ChangeRun, error) {
	q := url.Values{}
	if source != "" {
		q.Set("source", source)
	}
	var out ChangeRun
	defer c.ordered.Add(1)
	return out, c.call(ctx, "POST", "/v1/changes", q, map[string]any{"changes": changes}, &out)
}

// Changed tells of one thing that changed, after the commit: before nil is a create, after nil
// a delete. Values are structs or maps, as encoding/json writes them. The error is that of
// encoding a value, or as with SendChanges.
func (c *Client) Changed(ctx context.Context, kind string, before, after any) (ChangeRun, error) {
	return c.SendChanges(ctx, "", ChangeOf(kind, before, after))
}

// ChangeOf makes a change; before nil is a create, after nil a delete.
func ChangeOf(kind string, before, after any) Change {
	op := "update"
	if before == nil {
		op = "create"
	} else if after == nil {
		op = "delete"
	}
	return Change{Kind: kind, Op: op, Before: before, After: after}
}

// TryChange shows what the rules make of a change, and purges nothing. StatusOf the error is
// 422 for a change that makes no sense.
func (c *Client) TryChange(ctx context.Context, change Change) (ChangeTrial, error) {
	var out ChangeTrial
	return out, c.call(ctx, "POST", "/v1/changes/try", nil, change, &out)
}

// RunChanges reads a table now; source "" where there is only one. StatusOf the error is 422
// for a source that the policy does not have, and 409 while it is being read already.
func (c *Client) RunChanges(ctx context.Context, source string) (ChangeRun, error) {
	var out ChangeRun
	return out, c.call(ctx, "POST", "/v1/changes/run", nil, map[string]string{"source": source}, &out)
}

// ChangeRuns lists what was read, newest first; source "" for all, before 0 from the end.
// StatusOf the error is 503 while the database cannot be reached.
func (c *Client) ChangeRuns(ctx context.Context, source string, before int64, limit int) ([]ChangeRun, error) {
	q := url.Values{"limit": {strconv.Itoa(limit)}}
	if source != "" {
		q.Set("source", source)
	}
	if before > 0 {
		q.Set("before", strconv.FormatInt(before, 10))
	}
	var out struct {
		Runs []ChangeRun `json:"runs"`
	}
	err := c.call(ctx, "GET", "/v1/changes/runs", q, nil, &out)
	return out.Runs, err
}

// ChangesStatus tells how the sources are, also when they are not well. The error says that
// the node cannot be asked.
func (c *Client) ChangesStatus(ctx context.Context) (ChangesStatus, error) {
	var out ChangesStatus
	err := c.call(ctx, "GET", "/v1/changes/status", nil, nil, &out)
	if StatusOf(err) == 503 && out.Sources != nil {
		return out, nil
	}
	return out, err
}
