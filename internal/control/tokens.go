package control

import (
	"context"
	"errors"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"gerastic.example/client"

	"gerastic/internal/core/fragment"
	"gerastic/internal/core/policy"
	"gerastic/internal/records"
)

type tokenList struct {
	Body struct {
		Tokens []client.Token `json:"tokens"`
	}
}

type newToken struct {
	Body struct {
		Name      string   `json:"name" minLength:"1" maxLength:"64"`
		Rights    []string `json:"rights" minItems:"1" enum:"read,purge,fragments,admin"`
		Namespace string   `json:"namespace,omitempty" maxLength:"64" doc:"The application whose fragments it may load and store; needed with the right fragments"`
		AtMost    string   `json:"at_most,omitempty" maxLength:"32" doc:"How much memory these may take on a node, such as 64MiB, so that one application does not push out others; left out: as much as there is"`
	}
}

type madeToken struct{ Body client.Token }

type tokenID struct {
	ID string `path:"id"`
}

func (c *Control) tokenCalls() {
	create := operation("create-token", http.MethodPost, "/v1/tokens", "Make a token; its secret is shown once", records.Admin)
	create.DefaultStatus = http.StatusCreated
	huma.Register(c.api, operation("list-tokens", http.MethodGet, "/v1/tokens", "List tokens, without their secrets", records.Admin), c.listTokens)
	huma.Register(c.api, create, c.createToken)
	huma.Register(c.api, operation("revoke-token", http.MethodDelete, "/v1/tokens/{id}", "Revoke a token", records.Admin), c.revokeToken)
}

func (c *Control) listTokens(ctx context.Context, _ *struct{}) (*tokenList, error) {
	rec, err := c.records()
	if err != nil {
		return nil, err
	}
	kept, err := rec.Tokens(ctx)
	if err != nil {
		return nil, c.failed(err)
	}
	out := &tokenList{}
	out.Body.Tokens = []client.Token{}
	for _, t := range kept {
		out.Body.Tokens = append(out.Body.Tokens, tokenOut(t))
	}
	return out, nil
}

func (c *Control) createToken(ctx context.Context, in *newToken) (*madeToken, error) {
	rec, err := c.records()
	if err != nil {
		return nil, err
	}
	var rights []records.Right
	for _, r := range in.Body.Rights {
		rights = append(rights, records.Right(r))
	}
	_, bad := fragment.NewID(in.Body.Namespace, "any")
	switch wants := slices.Contains(rights, records.Fragments); {
	case wants && bad != nil:
		return nil, huma.Error422UnprocessableEntity("a token for fragments is kept to one application's; name it with namespace (--namespace): " + bad.Error())
	case !wants && in.Body.Namespace != "":
		return nil, huma.Error422UnprocessableEntity("a namespace is for the right fragments only; add that right, or leave the namespace out")
	}
	made := records.Token{Name: in.Body.Name, Rights: rights, Namespace: in.Body.Namespace}
	if in.Body.AtMost != "" {
		if made.AtMost, err = policy.ParseSize(in.Body.AtMost); err != nil || in.Body.Namespace == "" {
			return nil, huma.Error422UnprocessableEntity("at_most is a size such as 64MiB, for the fragments of a namespace")
		}
	}
	secret := records.NewSecret()
	t, err := rec.AddToken(ctx, made, secret)
	if err != nil {
		return nil, c.failed(err)
	}
	if err := c.node.ReloadTokens(ctx); err != nil {
		return nil, c.failed(err)
	}
	out := &madeToken{tokenOut(t)}
	out.Body.Secret = secret
	return out, nil
}

func (c *Control) revokeToken(ctx context.Context, in *tokenID) (*struct{}, error) {
	rec, err := c.records()
	if err != nil {
		return nil, err
	}
	if err := rec.RevokeToken(ctx, in.ID); errors.Is(err, records.ErrNotFound) {
		return nil, huma.Error404NotFound("no token in force has this id; gerastic token list shows them")
	} else if err != nil {
		return nil, c.failed(err)
	}
	return nil, c.node.ReloadTokens(ctx)
}

func tokenOut(t records.Token) client.Token {
	out := client.Token{ID: t.ID, Name: t.Name, Namespace: t.Namespace, AtMost: t.AtMost, Created: t.Created, Revoked: t.Revoked}
	for _, r := range t.Rights {
		out.Rights = append(out.Rights, string(r))
	}
	return out
}

// records returns the database, or the problem that it cannot be reached.
func (c *Control) records() (records.Records, error) {
	rec, err := c.node.Records()
	if err != nil {
		return nil, huma.Error503ServiceUnavailable("the database cannot be reached; the edge goes on serving, but this call needs it. Try again when it is back: " + err.Error())
	}
	return rec, nil
}

// failed turns an error of the database into a problem.
func (c *Control) failed(err error) error {
	c.log.Error("a control call failed", "error", err)
	if records.Refused(err) {
		return huma.Error500InternalServerError("the database refused: " + err.Error())
	}
	return huma.Error503ServiceUnavailable("the database cannot be reached; try again when it is back: " + err.Error())
}
