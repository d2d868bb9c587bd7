package control

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"gerastic.example/client"

	"gerastic/internal/core/changes"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/detect"
	"gerastic/internal/records"
)

// sentChanges is a call that tells of changes. It is open: a signature counts as much
// as a token.
type sentChanges struct {
	Authorization string `header:"Authorization" hidden:"true"`
	Cookie        string `header:"Cookie" hidden:"true"`
	Time          string `header:"Gerastic-Time" doc:"When the call was signed, in Unix seconds"`
	Signature     string `header:"Gerastic-Signature" doc:"HMAC-SHA-256 over Gerastic-Time, a line break and the raw body, by the source's secret, in hexadecimal; instead of a token"`
	Source        string `query:"source" doc:"The webhook of the policy that this is; may be left out where there is one"`
	RawBody       []byte `contentType:"application/json"`
}

type changeStatus struct {
	Status int
	Body   client.ChangesStatus
}

type changeRun struct{ Body client.ChangeRun }

// triedChange is a change that nothing is purged for.
type triedChange struct {
	Body    client.Change
	RawBody []byte
}

type changeTrial struct{ Body client.ChangeTrial }

type tableToRead struct {
	Body struct {
		Source string `json:"source,omitempty" doc:"May be left out where there is one table"`
	}
}

type runsQuery struct {
	Source string `query:"source"`
	Before int64  `query:"before" doc:"Only runs before this number"`
	Limit  int    `query:"limit" default:"50" minimum:"1" maximum:"500"`
}

type changeRuns struct {
	Body struct {
		Runs []client.ChangeRun `json:"runs"`
	}
}

func (c *Control) changeCalls() {
	huma.Register(c.api, c.sending(), c.sendChanges)
	huma.Register(c.api, operation("try-change", http.MethodPost, "/v1/changes/try", "Show what the rules make of a change, and purge nothing", records.Read), c.tryChange)
	huma.Register(c.api, operation("run-changes", http.MethodPost, "/v1/changes/run", "Read a table of the content now", records.Purging), c.runChanges)
	huma.Register(c.api, operation("list-change-runs", http.MethodGet, "/v1/changes/runs", "List what was read from the sources, newest first", records.Read), c.listChangeRuns)
	huma.Register(c.api, operation("changes-status", http.MethodGet, "/v1/changes/status", "Tell a monitor how the sources are: 200, or 503 and which is not well", records.Read), c.tellChangesStatus)
	answers := c.api.OpenAPI().Paths["/v1/changes/status"].Get.Responses
	answers["200"].Description = "All sources are well"
	answers["503"] = &huma.Response{Description: "Some source is not well, which the body says; or, as problem details, the state of them is not known", Content: map[string]*huma.MediaType{
		"application/json": answers["200"].Content["application/json"], "application/problem+json": answers["default"].Content["application/problem+json"]}}
}

// sending describes the call with which applications tell of changes.
func (c *Control) sending() huma.Operation {
	item := c.api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[client.Change](), true, "Change")
	list := &huma.Schema{Type: huma.TypeArray, Items: item}
	body := &huma.Schema{
		Description: "One change, a list of them, or an object whose member changes is a list",
		OneOf:       []*huma.Schema{item, list, {Type: huma.TypeObject, Properties: map[string]*huma.Schema{"changes": list}, Required: []string{"changes"}}},
	}
	return huma.Operation{
		OperationID: "send-changes", Method: http.MethodPost, Path: "/v1/changes", Summary: "Tell of changes of content; what showed them is purged",
		MaxBodyBytes: mostBytes, SkipValidateBody: true, Middlewares: huma.Middlewares{c.beforeReading},
		RequestBody: &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{"application/json": {Schema: body}}},
	}
}

func (c *Control) sendChanges(ctx context.Context, in *sentChanges) (*changeRun, error) {
	source, err := c.sender(in)
	if err != nil {
		return nil, err
	}
	all, err := readChanges(in.RawBody)
	if err != nil {
		return nil, err
	}
	run, err := c.node.Changes().Sent(ctx, source, in.Signature, all)
	return c.ran(run, err)
}

func (c *Control) tryChange(ctx context.Context, in *triedChange) (*changeTrial, error) {
	all, err := readChanges(in.RawBody)
	if err != nil {
		return nil, err
	}
	trial, err := c.try(ctx, &all[0])
	return &changeTrial{trial}, err
}

func (c *Control) runChanges(ctx context.Context, in *tableToRead) (*changeRun, error) {
	source, err := c.onlyOf(in.Body.Source, policy.Table)
	if err != nil {
		return nil, err
	}
	run, err := c.node.Changes().Run(ctx, source.Name)
	return c.ran(run, err)
}

func (c *Control) listChangeRuns(ctx context.Context, in *runsQuery) (*changeRuns, error) {
	rec, err := c.records()
	if err != nil {
		return nil, err
	}
	runs, err := rec.Runs(ctx, in.Source, in.Before, in.Limit)
	if err != nil {
		return nil, c.failed(err)
	}
	out := &changeRuns{}
	out.Body.Runs = []client.ChangeRun{}
	for _, r := range runs {
		out.Body.Runs = append(out.Body.Runs, runOut(r))
	}
	return out, nil
}

func (c *Control) tellChangesStatus(ctx context.Context, _ *struct{}) (*changeStatus, error) {
	rec, err := c.records()
	if err != nil {
		return nil, err
	}
	s, err := c.changesStatus(ctx, rec)
	if err != nil {
		return nil, c.failed(err)
	}
	out := &changeStatus{Status: http.StatusOK, Body: s}
	if !s.Well {
		out.Status = http.StatusServiceUnavailable
	}
	return out, nil
}

// sender finds out which webhook a call is, and that it may send. Which webhooks there are is
// told only to who may send.
func (c *Control) sender(in *sentChanges) (*policy.Source, error) {
	if in.Signature != "" {
		source := c.webhook(in.Source)
		if source == nil {
			return nil, huma.Error401Unauthorized(unsigned)
		}
		if err := detect.Signed(source.Secret, in.Time, in.Signature, in.RawBody, c.now()); err != nil {
			return nil, huma.Error401Unauthorized(err.Error())
		}
		return source, nil
	}
	token, ok := c.tokenOf(in.Authorization, in.Cookie)
	if !ok {
		return nil, huma.Error401Unauthorized(wantSender)
	}
	if !token.May(records.Purging) {
		return nil, huma.Error403Forbidden(lacks(records.Purging))
	}
	if in.Source == "" && len(webhooks(c.node.Changes().Rules())) == 0 {
		return nil, nil
	}
	return c.onlyOf(in.Source, policy.Webhook)
}

const (
	wantSender = "sending changes needs a token with the right purge, or a signature: Gerastic-Time and Gerastic-Signature"
	unsigned   = "no webhook of the policy takes this signature: look at ?source=NAME, and at the source's secret; what has no secret takes a token"
)

// webhook is the one of a name that takes signatures, or the only one; nil if there is none.
func (c *Control) webhook(name string) (found *policy.Source) {
	all := webhooks(c.node.Changes().Rules())
	for _, s := range all {
		if s.Secret != "" && (s.Name == name || name == "" && len(all) == 1) {
			found = s
		}
	}
	return found
}

// beforeReading refuses a call that shows by its header alone that it may not send, and one
// for whose body there is no room.
func (c *Control) beforeReading(ctx huma.Context, next func(huma.Context)) {
	signature := ctx.Header("Gerastic-Signature")
	switch token, ok := c.tokenOf(ctx.Header("Authorization"), ctx.Header("Cookie")); {
	case signature == "" && !ok:
		_ = huma.WriteErr(c.api, ctx, http.StatusUnauthorized, wantSender)
		return
	case signature == "" && !token.May(records.Purging):
		_ = huma.WriteErr(c.api, ctx, http.StatusForbidden, lacks(records.Purging))
		return
	case signature != "":
		if err := detect.Timely(ctx.Header("Gerastic-Time"), c.now()); err != nil {
			_ = huma.WriteErr(c.api, ctx, http.StatusUnauthorized, err.Error())
			return
		}
		if c.webhook(ctx.Query("source")) == nil || len(signature) != 2*sha256.Size {
			_ = huma.WriteErr(c.api, ctx, http.StatusUnauthorized, unsigned)
			return
		}
	}
	size, err := strconv.ParseInt(ctx.Header("Content-Length"), 10, 64)
	if err != nil || size > mostBytes {
		size = mostBytes
	}
	size = min(size, c.store.Limit()/4) // one fits, however small the node
	if !c.store.Borrow(size) {
		ctx.SetHeader("Retry-After", "1")
		_ = huma.WriteErr(c.api, ctx, http.StatusServiceUnavailable, "too many such calls are under way; try again")
		return
	}
	defer c.store.Return(size)
	next(ctx)
}

// mostBytes is the longest call that tells of changes.
const mostBytes = 16 << 20

func webhooks(all policy.Changes) (found []*policy.Source) {
	for _, s := range all.Sources {
		if s.Kind == policy.Webhook {
			found = append(found, s)
		}
	}
	return found
}

// onlyOf is the source of a name, or the only one of its kind.
func (c *Control) onlyOf(name string, kind policy.SourceKind) (*policy.Source, error) {
	var names []string
	var found *policy.Source
	for _, s := range c.node.Changes().Rules().Sources {
		if name == s.Name && s.Kind != kind {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("source %s is a %s, not a %s: it follows changes by itself", name, s.Kind, kind))
		}
		if s.Kind == kind {
			names = append(names, s.Name)
			if name == "" || name == s.Name {
				found = s
			}
		}
	}
	switch {
	case len(names) == 0:
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("the policy has no source of kind %s; add one under changes.sources", kind))
	case found == nil:
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("no %s is named %q; there is %s", kind, name, strings.Join(names, ", ")))
	case name == "" && len(names) > 1:
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("there is more than one %s; name one: %s", kind, strings.Join(names, ", ")))
	}
	return found, nil
}

// mostSent is how many changes one call may tell of.
const mostSent = 10_000

// mostTried is how many tags of one change a trial shows.
const mostTried = 1000

// readChanges reads one change, a list of them, or {"changes": a list}.
func readChanges(body []byte) ([]changes.Change, error) {
	if bad := badJSON(body); bad != "" {
		return nil, huma.Error400BadRequest("the body " + bad + "; nothing was purged")
	}
	var members map[string]json.RawMessage
	if json.Unmarshal(body, &members) == nil && len(members) == 1 && members["changes"] != nil {
		body = members["changes"]
	}
	all, err := detect.ParseChanges(body)
	switch {
	case err != nil:
		return nil, huma.Error422UnprocessableEntity(err.Error() + "; nothing was purged")
	case len(all) == 0:
		return nil, huma.Error422UnprocessableEntity("there is no change in the call; send at least one")
	case len(all) > mostSent:
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("a call takes at most %d changes, and this has %d; send the rest in another", mostSent, len(all)))
	}
	return all, nil
}

// ran answers for a run.
func (c *Control) ran(run records.Run, err error) (*changeRun, error) {
	var mistake *detect.Mistake
	switch {
	case errors.As(err, &mistake):
		return nil, huma.Error422UnprocessableEntity(mistake.Text)
	case errors.Is(err, detect.ErrRepeated):
		return nil, huma.Error409Conflict(err.Error())
	case errors.Is(err, detect.ErrRunning):
		return nil, huma.Error409Conflict("the source is being read already, here or by another node; gerastic changes log shows when it is done")
	case err != nil:
		return nil, huma.Error503ServiceUnavailable("not all that changed could be purged; gerastic changes log shows what was. To try again does no harm: " + err.Error())
	}
	return &changeRun{runOut(run)}, nil
}

func runOut(r records.Run) client.ChangeRun {
	return client.ChangeRun{
		Run: r.ID, Source: r.Source, Trigger: r.Trigger, Node: r.Node, Began: r.Began, TookMS: milliseconds(r.Ended.Sub(r.Began)),
		Changes: r.Changes, Skipped: r.Skipped, Tags: r.Tags, Entries: r.Entries, Purges: notNil(r.Purges), Error: r.Error,
	}
}

// try applies the rules to a change that did not happen.
func (c *Control) try(ctx context.Context, change *changes.Change) (client.ChangeTrial, error) {
	known := c.node.Changes().Rules()
	out := client.ChangeTrial{Effects: []client.ChangeEffect{}, Kinds: []string{}}
	seen := map[string]bool{}
	for _, r := range known.Rules {
		if !seen[r.Kind] {
			seen[r.Kind] = true
			out.Kinds = append(out.Kinds, r.Kind)
		}
	}
	for _, e := range changes.Effects(known.Rules, change, mostTried) {
		if e.TooMany {
			return out, huma.Error422UnprocessableEntity(fmt.Sprintf("rule %d: %s", e.Rule+1, e.Why))
		}
		if err := ctx.Err(); err != nil {
			return out, err
		}
		effect := client.ChangeEffect{Rule: e.Rule + 1, Fired: e.Fired, Why: e.Why, Mode: e.Mode.String(), Tags: notNil(e.Tags)}
		for _, q := range e.Questions {
			more, err := c.node.Changes().Answer(ctx, q)
			if err != nil {
				return out, huma.Error422UnprocessableEntity(err.Error())
			}
			effect.Query = q.FanOut.Query
			effect.Tags = append(effect.Tags, more...)
		}
		out.Effects = append(out.Effects, effect)
	}
	return out, nil
}

// changesStatus holds every source against its promise.
func (c *Control) changesStatus(ctx context.Context, rec records.Records) (client.ChangesStatus, error) {
	known := c.node.Changes().Rules()
	out := client.ChangesStatus{Well: true, Sources: []client.SourceStatus{}, Rules: len(known.Rules)}
	states, err := rec.Sources(ctx)
	if err != nil {
		return out, err
	}
	delays, seen, err := rec.Delays(ctx, c.now().Add(-24*time.Hour))
	if err != nil {
		return out, err
	}
	var failing []string
	for _, s := range known.Sources {
		one := c.sourceStatus(s, states[s.Name])
		one.Changes = seen[s.Name]
		one.DelayP50MS, one.DelayP99MS = percentile(delays[s.Name], 0.5), percentile(delays[s.Name], 0.99)
		last, err := rec.LastRun(ctx, s.Name)
		if err != nil && !errors.Is(err, records.ErrNotFound) {
			return out, err
		}
		if err == nil {
			run := runOut(last)
			one.LastRun = &run
		}
		if !one.Well {
			failing = append(failing, s.Name+": "+one.Why)
		}
		out.Sources = append(out.Sources, one)
	}
	out.Well, out.Why = len(failing) == 0, strings.Join(failing, "; ")
	return out, nil
}

func (c *Control) sourceStatus(s *policy.Source, state records.Source) client.SourceStatus {
	one := client.SourceStatus{Name: s.Name, Kind: string(s.Kind), Node: state.Node, Checked: state.Checked, WithinS: s.Within.Seconds(), Note: state.Detail, Behind: state.Behind, Retained: state.Retained}
	if s.Kind == policy.Replication {
		one.KeepAtMost = s.KeepAtMost
	}
	started := c.node.Status().Started
	switch ago := c.now().Sub(deref(state.Checked)); {
	case state.Error != "":
		one.Why = state.Error
	case s.Kind == policy.Webhook:
	case state.Checked == nil && c.now().Sub(started) < s.Within:
		one.Note = strings.TrimPrefix(one.Note+"; not read yet", "; ")
	case state.Checked == nil:
		one.Why = "it has never been read"
	case ago > s.Within:
		one.Why = fmt.Sprintf("it was last read %s ago, and promises %s; is a node running that can reach its database?", ago.Round(time.Second), policy.FormatDuration(s.Within))
	}
	one.Well = one.Why == ""
	return one
}

func deref(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}

func percentile(h *meter.Histogram, p float64) *float64 {
	if h == nil {
		return nil
	}
	d, ok := h.Percentile(p)
	if !ok {
		return nil
	}
	ms := milliseconds(d)
	return &ms
}
