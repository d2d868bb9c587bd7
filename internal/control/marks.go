package control

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"github.com/danielgtaylor/huma/v2"

	"gerastic.example/client"

	"gerastic/internal/records"
)

type markQuery struct {
	Since string   `query:"since" default:"90d" doc:"A length of time before now (1h, 7d) or an RFC 3339 time"`
	Until string   `query:"until" doc:"Likewise; now if left out"`
	Kind  []string `query:"kind" maxItems:"10" doc:"Only these kinds, with commas between: mark, purge, revision, restart, switch, release"`
	Limit int      `query:"limit" default:"100" minimum:"1" maximum:"1000"`
	After string   `query:"after" maxLength:"100" doc:"The next of the part before"`
}

func (c *Control) markCalls() {
	huma.Register(c.api, operation("list-marks", http.MethodGet, "/v1/marks", "What happened to the cache, the newest first", records.Read),
		func(ctx context.Context, in *markQuery) (*struct{ Body client.MarkList }, error) {
			list, err := c.marks(ctx, in)
			return &struct{ Body client.MarkList }{list}, err
		})
	add := operation("add-mark", http.MethodPost, "/v1/marks", "Put a mark on the time line, such as a release", records.Purging)
	add.DefaultStatus = http.StatusCreated
	huma.Register(c.api, add, func(ctx context.Context, in *struct {
		Body struct {
			Name string `json:"name" minLength:"1" maxLength:"200" doc:"What it is called, in one line"`
			At   string `json:"at,omitempty" doc:"When it was: an RFC 3339 time, or a length of time before now; now if left out"`
		}
	}) (*struct{ Body client.Mark }, error) {
		m, err := c.addMark(ctx, in.Body.Name, in.Body.At)
		return &struct{ Body client.Mark }{m}, err
	})
}

func (c *Control) addMark(ctx context.Context, name, atText string) (client.Mark, error) {
	name, now := strings.TrimSpace(name), c.now()
	if name == "" || strings.ContainsFunc(name, unicode.IsControl) {
		return client.Mark{}, huma.Error422UnprocessableEntity("name: a mark is called by one line of text, such as release 1.4")
	}
	at, err := moment(atText, now)
	if err != nil {
		return client.Mark{}, huma.Error422UnprocessableEntity("at: " + err.Error())
	}
	if at.After(now.Add(time.Minute)) || at.Before(now.Add(-records.CoarseFor)) {
		return client.Mark{}, huma.Error422UnprocessableEntity(fmt.Sprintf("at: %s is not within the last 90 days, which are kept", at.UTC().Format(time.RFC3339)))
	}
	rec, err := c.records()
	if err != nil {
		return client.Mark{}, err
	}
	m, err := rec.AddMark(ctx, records.TimeMark{At: at, Kind: records.MarkOwn, Name: name, Actor: caller(ctx)})
	if err != nil {
		return client.Mark{}, c.failed(err)
	}
	return markOut(m), nil
}

func (c *Control) marks(ctx context.Context, in *markQuery) (out client.MarkList, err error) {
	q := records.MarkQuery{Kinds: in.Kind, Limit: in.Limit + 1}
	if q.Since, q.Until, err = sinceUntil(in.Since, in.Until, c.now()); err != nil {
		return out, err
	}
	if in.Until == "" {
		q.Until = q.Until.Add(time.Minute) // other nodes' clocks, and marks of this very moment
	}
	for _, kind := range in.Kind {
		if !slices.Contains(records.MarkKinds, kind) {
			return out, huma.Error422UnprocessableEntity(fmt.Sprintf("kind: %q is none of %s", kind, strings.Join(records.MarkKinds, ", ")))
		}
	}
	if in.After != "" {
		if q.After, err = parseMarkPlace(in.After); err != nil {
			return out, huma.Error422UnprocessableEntity("after: " + err.Error())
		}
	}
	rec, err := c.records()
	if err != nil {
		return out, err
	}
	all, err := rec.Marks(ctx, q)
	if err != nil {
		return out, c.failed(err)
	}
	if len(all) > in.Limit {
		all = all[:in.Limit]
		out.Next = markPlace(all[in.Limit-1])
	}
	out.Marks = marksOut(all)
	return out, nil
}

func marksOut(all []records.TimeMark) []client.Mark {
	out := []client.Mark{}
	for _, m := range all {
		out = append(out, markOut(m))
	}
	return out
}

func markOut(m records.TimeMark) client.Mark {
	return client.Mark{At: m.At.UTC(), Kind: m.Kind, Name: m.Name, By: m.Actor, Detail: m.Detail}
}

// markPlace is where a mark stands in the list: its time in microseconds, its kind, and its number there.
func markPlace(m records.TimeMark) string {
	return fmt.Sprintf("%d.%s.%d", m.At.UnixMicro(), m.Kind, m.ID)
}

func parseMarkPlace(text string) (*records.TimeMark, error) {
	parts := strings.Split(text, ".")
	if len(parts) == 3 {
		at, err := strconv.ParseInt(parts[0], 10, 64)
		id, again := strconv.ParseInt(parts[2], 10, 64)
		if err == nil && again == nil {
			return &records.TimeMark{At: time.UnixMicro(at), Kind: parts[1], ID: id}, nil
		}
	}
	return nil, fmt.Errorf("%q is no place in a list; pass the next that came with the list before", text)
}
