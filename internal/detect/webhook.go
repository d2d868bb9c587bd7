package detect

import (
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"strconv"
	"time"

	"gerastic/internal/core/changes"
	"gerastic/internal/core/policy"
	"gerastic/internal/records"
)

// Sent takes changes that came by call. source may be nil where the policy has one
// webhook, or none; signature is that of the call, or "". Items whose id was sent before are
// left out, and a signed call that was carried out is ErrRepeated.
func (d *Detector) Sent(ctx context.Context, source *policy.Source, signature string, all []changes.Change) (records.Run, error) {
	rec, err := d.Records()
	if err != nil {
		return records.Run{}, err
	}
	name := "sent"
	if source != nil {
		name = source.Name
	}
	rules := d.Rules().Rules
	for i := range all {
		for _, e := range changes.Effects(rules, &all[i], changes.MaxTags) {
			if e.TooMany {
				return records.Run{}, &Mistake{Text: fmt.Sprintf("change %d of the call: %s; nothing was purged", i+1, e.Why)}
			}
		}
		if err := ctx.Err(); err != nil {
			return records.Run{}, err
		}
	}
	if signature == "" {
		return d.sent(ctx, rec, name, source, all)
	}
	call := []string{"call " + signature}
	if before, err := rec.SentBefore(ctx, name, call); err != nil || before[call[0]] {
		return records.Run{}, cmp.Or(err, ErrRepeated)
	}
	run, err := d.sent(ctx, rec, name, source, all)
	if err == nil { // after the purges are in the ledger: what was broken off may be sent again
		err = rec.NoteSent(context.WithoutCancel(ctx), name, call)
	}
	return run, err
}

// ErrRepeated says that a signed call was carried out before.
var ErrRepeated = errors.New("this call, with this signature, was carried out already; sign again to send again")

func (d *Detector) sent(ctx context.Context, rec records.Records, name string, source *policy.Source, all []changes.Change) (records.Run, error) {
	var ids []string
	for i := range all {
		if all[i].ID != "" {
			ids = append(ids, all[i].ID)
		}
	}
	before, err := rec.SentBefore(ctx, name, ids)
	if err != nil {
		return records.Run{}, err
	}
	r := d.begin(name, "call", source, nil)
	for i := range all {
		c := &all[i]
		if c.ID != "" && before[c.ID] {
			continue
		}
		if before[c.ID] = true; c.At.IsZero() {
			c.At = r.record.Began
		}
		if err = r.take(ctx, c); err != nil {
			break
		}
	}
	if err == nil {
		err = cmp.Or(r.flush(ctx), r.refused)
	}
	if err == nil && len(ids) > 0 {
		err = rec.NoteSent(ctx, name, ids) // after the purges are in the ledger
	}
	if source != nil {
		state := records.Source{Name: name, Kind: string(policy.Webhook), Node: d.Node, Checked: &r.record.Began}
		if err != nil {
			state.Error, state.Failures = err.Error(), 1
		}
		if saving := rec.SaveSource(context.WithoutCancel(ctx), state); err == nil {
			err = saving
		}
	}
	return r.close(ctx, rec, err)
}

// SignatureAge is how old a signed call may be, and how far ahead its clock.
const SignatureAge = 5 * time.Minute

// Sign makes the signature of a call: HMAC-SHA-256 over the time, in Unix seconds, a
// line break and the raw body, in hexadecimal.
func Sign(secret, unix string, body []byte) string {
	mac := hmac.New(sha256.New, []byte(secret))
	fmt.Fprintf(mac, "%s\n", unix)
	mac.Write(body)
	return hex.EncodeToString(mac.Sum(nil))
}

// Timely says what is wrong with the time of a signed call, or nil.
func Timely(unix string, now time.Time) error {
	seconds, err := strconv.ParseInt(unix, 10, 64)
	if err != nil {
		return fmt.Errorf("Gerastic-Time must be the time of the call in Unix seconds")
	}
	if off := now.Sub(time.Unix(seconds, 0)).Abs(); off > SignatureAge {
		return fmt.Errorf("the call was signed %s from now; %s are allowed, so look at the clocks, and sign again to send again", off.Round(time.Second), SignatureAge)
	}
	return nil
}

// Signed says what is wrong with a signature, or nil.
func Signed(secret, unix, signature string, body []byte, now time.Time) error {
	if err := Timely(unix, now); err != nil {
		return err
	}
	if !hmac.Equal([]byte(Sign(secret, unix, body)), []byte(signature)) {
		return fmt.Errorf("the signature is not that of this body with this source's secret: HMAC-SHA-256 over Gerastic-Time, a line break and the raw body, in hexadecimal")
	}
	return nil
}
