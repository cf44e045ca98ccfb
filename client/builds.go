package client

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"dovrak/api/wire"
)

func buildPath(component string, number int64) string {
	return "/api/v1/components/" + url.PathEscape(component) + "/builds/" + itoa(number)
}

// StartBuild reports a build.
func (c *Client) StartBuild(ctx context.Context, n wire.NewBuild) (wire.Build, error) {
	return safely[wire.Build](ctx, c, "/api/v1/builds", n)
}

// ReportPart reports the image of one platform.
func (c *Client) ReportPart(ctx context.Context, component string, number int64, p wire.NewPart) (wire.Build, error) {
	return safely[wire.Build](ctx, c, buildPath(component, number)+"/parts", p)
}

// CloseBuild joins what is there.
func (c *Client) CloseBuild(ctx context.Context, component string, number int64) (wire.Build, error) {
	return safely[wire.Build](ctx, c, buildPath(component, number)+"/close", struct{}{})
}

// Build looks at a build. With a state, the answer waits for a while until the build is in another.
func (c *Client) Build(ctx context.Context, component string, number int64, unlike string) (wire.Build, error) {
	q := url.Values{}
	set(q, "unlike", unlike)
	return get[wire.Build](ctx, c, buildPath(component, number), q)
}

// Builds lists builds, newest first.
func (c *Client) Builds(ctx context.Context, p Page, component string, promised bool) (wire.Builds, error) {
	q := p.query()
	set(q, "component", component)
	if promised {
		q.Set("promised", strconv.FormatBool(promised))
	}
	return get[wire.Builds](ctx, c, "/api/v1/builds", q)
}

// TagRules gives the rules for a component's tags.
func (c *Client) TagRules(ctx context.Context, component string) (wire.TagRules, error) {
	return get[wire.TagRules](ctx, c, "/api/v1/components/"+url.PathEscape(component)+"/tag-rules", nil)
}

// Join asks for images to be joined, and gives the join's number.
func (c *Client) Join(ctx context.Context, n wire.NewJoin) (int64, error) {
	return start(ctx, c, "/api/v1/joins", n)
}

// JoinNumbered gives one join.
func (c *Client) JoinNumbered(ctx context.Context, n int64) (wire.Join, error) {
	return get[wire.Join](ctx, c, "/api/v1/joins/"+itoa(n), nil)
}

// Vouch puts evidence on record.
func (c *Client) Vouch(ctx context.Context, n wire.NewVouch) (wire.Vouch, error) {
	return post[wire.Vouch](ctx, c, "/api/v1/evidence", n)
}

// Report gives the report of evidence.
func (c *Client) Report(ctx context.Context, number int64) ([]byte, error) {
	req, err := c.request(ctx, http.MethodGet, "/api/v1/evidence/"+itoa(number)+"/report", nil, nil)
	if err != nil {
		return nil, err
	}
	resp, err := c.send(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	return io.ReadAll(io.LimitReader(resp.Body, maxAnswer))
}

// SignInPipeline trades a token of a pipeline's own issuer for one of Dovrak's.
func (c *Client) SignInPipeline(ctx context.Context, token string) (wire.PipelineSession, error) {
	return post[wire.PipelineSession](ctx, c, "/api/v1/pipeline-sessions", wire.PipelineSignIn{Token: token})
}
