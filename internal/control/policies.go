package control

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"

	"github.com/danielgtaylor/huma/v2"

	"gerastic.example/client"

	"gerastic/internal/core/policy"
	"gerastic/internal/records"
)

func (c *Control) policyCalls() {
	huma.Register(c.api, operation("get-policy", http.MethodGet, "/v1/policy", "Show the policy in force", records.Read),
		func(ctx context.Context, _ *struct{}) (*struct{ Body client.Policy }, error) {
			rev := c.node.Revision()
			if rev.Source == "" {
				return nil, huma.Error404NotFound("there is no policy yet; apply one with: gerastic policy apply FILE")
			}
			out := c.policyOut(rev)
			if token, _ := ctx.Value(callerKey{}).(records.Token); !token.May(records.Admin) {
				out.Source = policy.Hide(out.Source, os.LookupEnv)
			}
			return &struct{ Body client.Policy }{out}, nil
		})

	huma.Register(c.api, operation("apply-policy", http.MethodPut, "/v1/policy", "Check a policy and put it in force", records.Admin),
		func(ctx context.Context, in *struct {
			Body struct {
				Source string `json:"source" minLength:"1" maxLength:"1048576" doc:"The policy, as YAML or JSON"`
				Note   string `json:"note,omitempty" maxLength:"500"`
			}
		}) (*struct{ Body client.Policy }, error) {
			before := c.edge.Policy()
			rev, err := c.node.ApplyPolicy(ctx, in.Body.Source, caller(ctx), in.Body.Note)
			var problems policy.Problems
			switch {
			case errors.As(err, &problems):
				return nil, policyProblem(problems)
			case err != nil:
				return nil, c.failed(err)
			}
			out := c.policyOut(rev)
			out.Touched = c.touched(before)
			return &struct{ Body client.Policy }{out}, nil
		})
}

// touched counts what is stored here that the policy in force judges otherwise than the one
// before.
func (c *Control) touched(before *policy.InForce) (entries int64) {
	if before == nil {
		return 0
	}
	stored := c.store.RouteCounts()
	for _, route := range before.Touched(c.edge.Policy().Policy) {
		entries += int64(stored[route])
	}
	return entries
}

// policyProblem puts each finding into the problem's errors, with its place.
func policyProblem(problems policy.Problems) error {
	details := make([]error, len(problems))
	for i, p := range problems {
		details[i] = &huma.ErrorDetail{Message: p.Message, Location: fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)}
	}
	return huma.Error422UnprocessableEntity("the policy has mistakes, so it was not applied and the one before stays in force", details...)
}

func (c *Control) policyOut(rev records.Revision) client.Policy {
	out := client.Policy{Revision: rev.Number, At: rev.At, Actor: rev.Actor, Note: rev.Note, Source: rev.Source, Warnings: []client.PolicyProblem{}}
	if inForce := c.edge.Policy(); inForce != nil {
		for _, w := range inForce.Warnings {
			out.Warnings = append(out.Warnings, client.PolicyProblem(w))
		}
	}
	return out
}
