package demo

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"gerastic.example/client/aftercommit"
	"gerastic.example/client/protocol"
)

// Edit is what the operations desk changes of a sailing; nil leaves a field as it is.
type Edit struct {
	Status   *string `json:"status"`
	Delay    *int    `json:"delay_minutes"`
	VesselID *int    `json:"vessel_id"`
	From     *string `json:"from_port"`
	To       *string `json:"to_port"`
}

// errEdit is a mistake in an edit; its text is for the desk.
type errEdit string

func (e errEdit) Error() string { return string(e) }

// edit changes a sailing and returns it as it was and as it is.
func (c *Content) edit(ctx context.Context, tx pgx.Tx, id int, e Edit) (before, after Sailing, err error) {
	if before, err = sailingIn(ctx, tx, id); err != nil {
		return before, after, err
	}
	after = before
	if e.Status != nil {
		after.Status = *e.Status
	}
	if e.Delay != nil {
		after.Departs = after.Departs.Add(time.Duration(*e.Delay) * time.Minute)
		after.Arrives = after.Arrives.Add(time.Duration(*e.Delay) * time.Minute)
		if e.Status == nil {
			after.Status = "delayed"
		}
	}
	if e.VesselID != nil {
		after.VesselID = *e.VesselID
	}
	if e.From != nil {
		after.From = *e.From
	}
	if e.To != nil {
		after.To = *e.To
	}
	if after.From == after.To {
		return before, after, errEdit("a sailing goes from one port to another")
	}
	_, err = tx.Exec(ctx, `update sailing set from_port = $2, to_port = $3, vessel_id = $4, departs_at = $5, arrives_at = $6, status = $7, desk_edit = desk_edit + 1,
		updated_at = greatest(date_trunc('second', now()), updated_at + interval '1 second') where id = $1`,
		id, after.From, after.To, after.VesselID, after.Departs, after.Arrives, after.Status)
	if isRefusal(err) {
		return before, after, errEdit("no such status, vessel or port: the statuses are on time, delayed and cancelled")
	}
	if err != nil {
		return before, after, err
	}
	after, err = sailingIn(ctx, tx, id)
	return before, after, err
}

// isRefusal tells an error that the database answered with from one of reaching it.
func isRefusal(err error) bool {
	var answer *pgconn.PgError
	return errors.As(err, &answer)
}

// staleTags are the tags of what an edit made wrong: the sailing wherever it is shown,
// and, when it leaves at another time, from another place or with another ship, the
// lists that it left and came to.
func staleTags(before, after Sailing) []string {
	stale := []string{fmt.Sprintf("sailing:%d", after.ID)}
	moved := before.From != after.From || !before.Departs.Equal(after.Departs)
	if moved {
		stale = append(stale, "departures:"+before.From)
	}
	if before.From != after.From {
		stale = append(stale, "departures:"+after.From)
	}
	if moved || before.VesselID != after.VesselID {
		stale = append(stale, fmt.Sprintf("sailings-of:%d", before.VesselID))
	}
	if before.VesselID != after.VesselID {
		stale = append(stale, fmt.Sprintf("sailings-of:%d", after.VesselID))
	}
	return stale
}

// editSailing is POST /desk/sailings/{id}: change, commit, then purge.
func (s *Site) editSailing(w http.ResponseWriter, r *http.Request) {
	id, err := strconv.Atoi(r.PathValue("id"))
	if err != nil {
		http.Error(w, "a sailing's number is needed", http.StatusNotFound)
		return
	}
	var e Edit
	if err := readEdit(r, &e); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	var before, after Sailing
	s.deskEdit(w, r, func(tx *aftercommit.Tx) (err error) {
		before, after, err = s.Content.edit(r.Context(), tx, id, e)
		return err
	}, func() (string, []string) {
		return fmt.Sprintf("sailing %d, %s: %s → %s", id, after.FromName, before.Status, after.Status), staleTags(before, after)
	}, func() any {
		return map[string]any{"before": before, "sailing": after, "stale": staleTags(before, after)}
	})
}

// readEdit takes a form or JSON.
func readEdit(r *http.Request, e *Edit) error {
	if strings.HasPrefix(r.Header.Get("Content-Type"), "application/json") {
		d := json.NewDecoder(r.Body)
		d.DisallowUnknownFields()
		if err := d.Decode(e); err != nil {
			return fmt.Errorf("the edit is not readable: %w", err)
		}
		return nil
	}
	if err := r.ParseForm(); err != nil {
		return err
	}
	text := func(name string, into **string) {
		if v := r.PostForm.Get(name); v != "" {
			*into = &v
		}
	}
	text("status", &e.Status)
	text("from_port", &e.From)
	text("to_port", &e.To)
	for name, into := range map[string]**int{"delay_minutes": &e.Delay, "vessel_id": &e.VesselID} {
		if v := r.PostForm.Get(name); v != "" {
			n, err := strconv.Atoi(v)
			if err != nil {
				return fmt.Errorf("%s must be a number", name)
			}
			*into = &n
		}
	}
	return nil
}

// groupList writes tags as a structured-field list of strings (RFC 9875).
func groupList(tags []string) string { return protocol.FormatGroups(tags) }
