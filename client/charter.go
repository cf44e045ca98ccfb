package client

import (
	"context"
	"net/url"

	"dovrak/api/wire"
)

func ofVersion(version int64) url.Values {
	q := url.Values{}
	if version > 0 {
		q.Set("version", itoa(version))
	}
	return q
}

// Charter gives a version of the charter; 0 is the one in force.
func (c *Client) Charter(ctx context.Context, version int64) (wire.Charter, error) {
	return get[wire.Charter](ctx, c, "/api/v1/charter", ofVersion(version))
}

// CharterInWords tells a version of the charter in words; 0 is the one in force.
func (c *Client) CharterInWords(ctx context.Context, version int64) (wire.CharterInWords, error) {
	return get[wire.CharterInWords](ctx, c, "/api/v1/charter/words", ofVersion(version))
}

// CharterVersions lists versions.
func (c *Client) CharterVersions(ctx context.Context, p Page) (wire.CharterVersions, error) {
	return get[wire.CharterVersions](ctx, c, "/api/v1/charter/versions", p.query())
}

// Adopt adopts a charter, or proposes it where others must agree.
func (c *Client) Adopt(ctx context.Context, in wire.CharterDocument) (wire.CharterVersion, error) {
	return post[wire.CharterVersion](ctx, c, "/api/v1/charter", in)
}

// Proposals lists proposed charters.
func (c *Client) Proposals(ctx context.Context, p Page) (wire.Proposals, error) {
	return get[wire.Proposals](ctx, c, "/api/v1/charter/proposals", p.query())
}

// Proposal gives one proposed charter.
func (c *Client) Proposal(ctx context.Context, n int64) (wire.ProposalInWords, error) {
	return get[wire.ProposalInWords](ctx, c, "/api/v1/charter/proposals/"+itoa(n), nil)
}

// SayOfCharter agrees to a proposed charter, or declines it.
func (c *Client) SayOfCharter(ctx context.Context, n int64, agreed bool, remark string) (wire.ProposalInWords, error) {
	what := "/decline"
	if agreed {
		what = "/approve"
	}
	return post[wire.ProposalInWords](ctx, c, "/api/v1/charter/proposals/"+itoa(n)+what, wire.Remark{Remark: remark})
}

// Rehearse tells what a charter would change for the next promotions.
func (c *Client) Rehearse(ctx context.Context, document string) (wire.Rehearsal, error) {
	return post[wire.Rehearsal](ctx, c, "/api/v1/charter/rehearsals", wire.CharterDocument{Document: document})
}

// CheckPlaces asks the registries of a charter's places.
func (c *Client) CheckPlaces(ctx context.Context, document string) (wire.PlaceChecks, error) {
	return post[wire.PlaceChecks](ctx, c, "/api/v1/charter/checks", wire.CharterDocument{Document: document})
}
