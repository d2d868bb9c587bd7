package node

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"gerastic/internal/records"
)

// tokenTable are the tokens in force, by the hash of their secrets.
type tokenTable map[[32]byte]records.Token

// AdminTokenFile is where the first token is written, below the node's directory.
const AdminTokenFile = "admin.token"

// adminToken makes sure that there is a token to begin with: the one that the
// environment gives, else the one that the first start made.
func (n *Node) adminToken(ctx context.Context, rec records.Records) error {
	secret := n.settings.AdminToken
	if secret == "" {
		path := filepath.Join(n.settings.Data, AdminTokenFile)
		kept, err := os.ReadFile(path)
		if errors.Is(err, fs.ErrNotExist) {
			kept = []byte(records.NewSecret() + "\n")
			err = os.WriteFile(path, kept, 0o600)
		}
		if err != nil {
			return fmt.Errorf("keeping the first token: %w", err)
		}
		secret = strings.TrimSpace(string(kept))
	}
	if len(secret) < 16 {
		return errors.New("the admin token must have at least 16 characters")
	}
	_, err := rec.AddToken(ctx, records.Token{Name: "admin", Rights: []records.Right{records.Admin}}, secret)
	return err
}

func (n *Node) loadTokens(ctx context.Context, rec records.Records) error {
	tokens, err := rec.Tokens(ctx)
	if err != nil {
		return err
	}
	table := tokenTable{}
	for _, t := range tokens {
		if t.Revoked == nil {
			table[t.Hash] = t
		}
	}
	n.tokens.Store(&table)
	return nil
}

// TokenFor returns the token of a secret; ok is false if there is none in force.
func (n *Node) TokenFor(secret string) (t records.Token, ok bool) {
	t, ok = (*n.tokens.Load())[records.HashToken(secret)]
	return t, ok
}

// ReloadTokens makes a change of tokens count at once.
func (n *Node) ReloadTokens(ctx context.Context) error {
	rec, err := n.Records()
	if err != nil {
		return err
	}
	return n.loadTokens(ctx, rec)
}

// atMost is how much memory the fragments of a namespace may take: the least that one of its tokens
// says, or 0, as much as there is.
func (n *Node) atMost(namespace string) (most int64) {
	for _, t := range *n.tokens.Load() {
		if t.Namespace == namespace && t.AtMost > 0 && (most == 0 || t.AtMost < most) {
			most = t.AtMost
		}
	}
	return most
}
