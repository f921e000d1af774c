package client

import (
	"context"
	"net/http"

	"nurvik/internal/api"
)

// Proposals are the endpoints that the estate may lack.
func (c *Client) Proposals(ctx context.Context) (out api.Proposals, err error) {
	return out, c.call(ctx, http.MethodGet, "/proposals", nil, &out)
}

// AnswerProposals adds some of them to the estate, and dismisses others.
func (c *Client) AnswerProposals(ctx context.Context, in api.ProposalAnswer) (out api.ProposalsAnswered, err error) {
	return out, c.call(ctx, http.MethodPost, "/proposals", in, &out)
}
