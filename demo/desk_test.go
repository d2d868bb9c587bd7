package demo

import (
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAnEditNamesWhatItMadeWrong: the sailing, and the lists that it left and came to.
func TestAnEditNamesWhatItMadeWrong(t *testing.T) {
	noon := time.Date(2026, 5, 17, 12, 0, 0, 0, time.UTC)
	before := Sailing{ID: 7, From: "tholm", To: "saltern", VesselID: 3, Departs: noon, Status: "on time"}
	for name, c := range map[string]struct {
		change func(*Sailing)
		want   []string
	}{
		"another status":  {func(s *Sailing) { s.Status = "cancelled" }, []string{"sailing:7"}},
		"the same moment": {func(s *Sailing) { s.Departs = noon.In(time.FixedZone("", 3600)) }, []string{"sailing:7"}},
		"another time":    {func(s *Sailing) { s.Departs = noon.Add(time.Hour) }, []string{"sailing:7", "departures:tholm", "sailings-of:3"}},
		"another port":    {func(s *Sailing) { s.From = "norrisay" }, []string{"sailing:7", "departures:tholm", "departures:norrisay", "sailings-of:3"}},
		"another vessel":  {func(s *Sailing) { s.VesselID = 5 }, []string{"sailing:7", "sailings-of:3", "sailings-of:5"}},
		"another landing": {func(s *Sailing) { s.To = "tholm" }, []string{"sailing:7"}},
	} {
		after := before
		c.change(&after)
		assert.Equal(t, c.want, staleTags(before, after), name)
	}
	assert.Equal(t, []string{"notices", "notices:tholm", "notices:saltern"}, noticeTags([]string{"tholm"}, []string{"saltern", "tholm"}))
	assert.Equal(t, `"sailing:7", "departures:tholm"`, groupList([]string{"sailing:7", "departures:tholm"}))
}

// TestEditsAreRead from the form of the desk and from JSON alike; what cannot be is refused.
func TestEditsAreRead(t *testing.T) {
	read := func(kind, body string) (e Edit, err error) {
		r := httptest.NewRequest("POST", "/desk/sailings/7", strings.NewReader(body))
		r.Header.Set("Content-Type", kind)
		return e, readEdit(r, &e)
	}
	const form, json = "application/x-www-form-urlencoded", "application/json"
	fromForm, err := read(form, url.Values{"status": {"delayed"}, "delay_minutes": {"20"}, "vessel_id": {""}}.Encode())
	require.NoError(t, err)
	fromJSON, err := read(json, `{"status":"delayed","delay_minutes":20}`)
	require.NoError(t, err)
	assert.Equal(t, fromJSON, fromForm)
	assert.Equal(t, 20, *fromForm.Delay)
	assert.Nil(t, fromForm.VesselID, "an empty field changes nothing")
	for kind, body := range map[string]string{form: "delay_minutes=soon", json: `{"colour":"red"}`} {
		_, err := read(kind, body)
		assert.Error(t, err, body)
	}
}

// TestTheTimetableIsTheSameEachTime, so that what is measured on it can be compared.
func TestTheTimetableIsTheSameEachTime(t *testing.T) {
	first := time.Date(2026, 5, 17, 0, 0, 0, 0, time.UTC)
	all := timetable(first)
	assert.Equal(t, all, timetable(first))
	assert.Greater(t, len(all), 1000)
	for _, row := range all {
		assert.NotEqual(t, row[0], row[1])
		assert.True(t, row[4].(time.Time).After(row[3].(time.Time)))
		assert.LessOrEqual(t, row[2].(int), len(vessels))
	}
}
