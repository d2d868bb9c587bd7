package records

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
)

// Right is what a token may do. Admin includes all others.
type Right string

// The rights.
const (
	Read      Right = "read"
	Purging   Right = "purge"
	Fragments Right = "fragments"
	Admin     Right = "admin"
)

// Token is a bearer token as it is kept: without its secret.
type Token struct {
	ID     string
	Name   string
	Rights []Right
	// Namespace is the application whose fragments it may load and store.
	Namespace string
	AtMost    int64 // bytes of memory that these may take; 0: as much as there is
	Created   time.Time
	Revoked   *time.Time
	Hash      [sha256.Size]byte
}

// May reports whether the token has a right.
func (t *Token) May(right Right) bool {
	return slices.Contains(t.Rights, right) || slices.Contains(t.Rights, Admin)
}

// HashToken is how a secret is kept. Secrets are long and random, so that a plain hash
// cannot be guessed from.
func HashToken(secret string) [sha256.Size]byte { return sha256.Sum256([]byte(secret)) }

// NewSecret makes the text of a token; its beginning tells people and scanners what it is.
func NewSecret() string { return "ger_" + strings.ToLower(rand.Text()) }

// AddToken keeps a token for a secret. If the same secret is there already, it is
// given these rights and is valid again.
func (r *Database) AddToken(ctx context.Context, t Token, secret string) (Token, error) {
	t.ID, t.Hash = strings.ToLower(rand.Text()[:10]), HashToken(secret)
	err := r.pool.QueryRow(ctx, `insert into token (id, name, rights, hash, namespace, at_most) values ($1, $2, $3, $4, $5, $6)
		on conflict (hash) do update set rights = excluded.rights, namespace = excluded.namespace, at_most = excluded.at_most, revoked = null returning id, created`,
		t.ID, t.Name, t.Rights, t.Hash[:], t.Namespace, t.AtMost).Scan(&t.ID, &t.Created)
	if err != nil {
		return t, fmt.Errorf("keeping the token: %w", err)
	}
	return t, nil
}

// Tokens lists all, newest first.
func (r *Database) Tokens(ctx context.Context) ([]Token, error) {
	rows, err := r.pool.Query(ctx, `select id, name, rights, namespace, at_most, created, revoked, hash from token order by created desc, id`)
	if err != nil {
		return nil, fmt.Errorf("reading the tokens: %w", err)
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (Token, error) {
		var t Token
		var hash []byte
		err := row.Scan(&t.ID, &t.Name, &t.Rights, &t.Namespace, &t.AtMost, &t.Created, &t.Revoked, &hash)
		copy(t.Hash[:], hash)
		return t, err
	})
}

// RevokeToken ends a token.
func (r *Database) RevokeToken(ctx context.Context, id string) error {
	tag, err := r.pool.Exec(ctx, `update token set revoked = now() where id = $1 and revoked is null`, id)
	if err != nil {
		return fmt.Errorf("revoking the token: %w", err)
	}
	if tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	return nil
}
