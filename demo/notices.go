package demo

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"gerastic.example/client/aftercommit"
)

// noticeEdit is what the desk writes of a notice; nil leaves a field as it is.
type noticeEdit struct {
	Title    *string  `json:"title"`
	Text     *string  `json:"text"`
	Severity *string  `json:"severity"`
	Ports    []string `json:"ports"`
}

// noticeTags are the tags of the places where a notice is shown: the first page, and the
// pages of its ports, those of before and those of now.
func noticeTags(before, after []string) []string {
	tags := []string{"notices"}
	for _, port := range append(before, after...) {
		if tag := "notices:" + port; !slices.Contains(tags, tag) {
			tags = append(tags, tag)
		}
	}
	return tags
}

// writeNotice is POST /desk/notices and POST /desk/notices/{id}.
func (s *Site) writeNotice(w http.ResponseWriter, r *http.Request) {
	var e noticeEdit
	d := json.NewDecoder(r.Body)
	d.DisallowUnknownFields()
	if err := d.Decode(&e); err != nil {
		http.Error(w, "a notice is JSON: {\"title\":…,\"text\":…,\"severity\":\"info\",\"ports\":[\"tholm\"]}: "+err.Error(), http.StatusBadRequest)
		return
	}
	id := 0
	if text := r.PathValue("id"); text != "" {
		if id, _ = strconv.Atoi(text); id <= 0 {
			http.Error(w, "a notice's number is needed", http.StatusNotFound)
			return
		}
	} else if e.Title == nil || e.Text == nil || len(e.Ports) == 0 {
		http.Error(w, "a notice needs a title, a text and ports", http.StatusUnprocessableEntity)
		return
	}
	var stale []string
	s.deskEdit(w, r, func(tx *aftercommit.Tx) (err error) {
		var before []string
		if id == 0 {
			err = tx.QueryRow(r.Context(), `insert into notice (title, text, severity, desk_edit) values ($1, $2, coalesce($3, 'info'), 1) returning id`, e.Title, e.Text, e.Severity).Scan(&id)
		} else {
			if before, err = noticePorts(r.Context(), tx, id); err == nil {
				_, err = tx.Exec(r.Context(), `update notice set title = coalesce($2, title), text = coalesce($3, text), severity = coalesce($4, severity), desk_edit = desk_edit + 1 where id = $1`, id, e.Title, e.Text, e.Severity)
			}
		}
		if err == nil && e.Ports != nil {
			_, err = tx.Exec(r.Context(), `delete from notice_port where notice_id = $1`, id)
			if err == nil {
				_, err = tx.Exec(r.Context(), `insert into notice_port select $1, unnest($2::text[])`, id, e.Ports)
			}
		}
		after := e.Ports
		if after == nil {
			after = before
		}
		stale = noticeTags(before, after)
		return err
	}, func() (string, []string) { return fmt.Sprintf("notice %d", id), stale }, func() any { return map[string]any{"notice": id, "stale": stale} })
}

func noticePorts(ctx context.Context, tx pgx.Tx, id int) ([]string, error) {
	var there bool
	if err := tx.QueryRow(ctx, `select true from notice where id = $1 for update`, id).Scan(&there); err != nil {
		return nil, err
	}
	rows, err := tx.Query(ctx, `select port from notice_port where notice_id = $1`, id)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// deleteNotice is DELETE /desk/notices/{id}.
func (s *Site) deleteNotice(w http.ResponseWriter, r *http.Request) {
	id := number(r)
	var stale []string
	s.deskEdit(w, r, func(tx *aftercommit.Tx) error {
		ports, err := noticePorts(r.Context(), tx, id)
		if err == nil {
			stale = noticeTags(ports, nil)
			_, err = tx.Exec(r.Context(), `delete from notice where id = $1`, id)
		}
		return err
	}, func() (string, []string) { return fmt.Sprintf("notice %d withdrawn", id), stale }, func() any { return map[string]any{"stale": stale} })
}

// declared reports whether the policy itself says what a request through the edge changes: what it
// purges is in the answer.
func declared(r *http.Request) bool { return strings.HasPrefix(r.URL.Path, "/desk/notices") }

// deskEdit changes something in a transaction, purges after its commit, and answers.
// Through the edge, the answer says what is to be forgotten (RFC 9875), where the policy does not;
// else the outbox does.
func (s *Site) deskEdit(w http.ResponseWriter, r *http.Request, change func(*aftercommit.Tx) error, purge func() (reason string, stale []string), answer func() any) {
	byEdge := strings.Contains(r.Header.Get("Via"), "gerastic")
	_, err := s.Outbox.Run(r.Context(), func(tx *aftercommit.Tx) error {
		if err := change(tx); err != nil {
			return err
		}
		if reason, stale := purge(); !byEdge {
			tx.Purge(reason, stale...)
		}
		return nil
	})
	var mistake errEdit
	switch {
	case errors.Is(err, pgx.ErrNoRows):
		http.Error(w, "there is no such thing to change", http.StatusNotFound)
		return
	case errors.As(err, &mistake):
		http.Error(w, mistake.Error(), http.StatusUnprocessableEntity)
		return
	case isRefusal(err):
		http.Error(w, "the database refuses it; is every port one of ours, and the severity info, minor or severe?", http.StatusUnprocessableEntity)
		return
	case err != nil:
		s.broken(w, err)
		return
	}
	if _, stale := purge(); byEdge && !declared(r) {
		w.Header().Set("Cache-Group-Invalidation", groupList(stale))
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(answer())
}

// Import is the bulk import of a timetable: it moves some sailings of the next days to
// another ship and another time, straight in the database. Nobody is told.
func (c *Content) Import(ctx context.Context, now time.Time) (moved int64, err error) {
	tag, err := c.pool.Exec(ctx, `update sailing set vessel_id = 1 + (vessel_id + 1) % 6, departs_at = departs_at + interval '5 minutes', arrives_at = arrives_at + interval '5 minutes',
		updated_at = now() where id in (select id from sailing where departs_at > $1 and departs_at < $1 + interval '2 days' order by random() limit 40)`, now)
	return tag.RowsAffected(), err
}

// bulkImport is POST /desk/import.
func (s *Site) bulkImport(w http.ResponseWriter, r *http.Request) {
	moved, err := s.Content.Import(r.Context(), s.Now())
	if err != nil {
		s.broken(w, err)
		return
	}
	fmt.Fprintf(w, "%d sailings moved, straight in the database. Nobody was told.\n", moved)
}
