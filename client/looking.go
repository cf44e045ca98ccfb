package client

import (
	"context"
	"io"
	"net/http"
	"net/url"

	"dovrak/api/wire"
)

// LookAt narrows what is shown of an image: to one platform, or to what a client of a platform gets.
type LookAt struct{ Platform, As string }

// Image looks at an image.
func (c *Client) Image(ctx context.Context, reference string, at LookAt) (wire.Image, error) {
	q := url.Values{"reference": {reference}}
	set(q, "platform", at.Platform)
	set(q, "as", at.As)
	return get[wire.Image](ctx, c, "/api/v1/image", q)
}

// Content gives the very bytes of a manifest or config.
func (c *Client) Content(ctx context.Context, reference, platform, part string) ([]byte, error) {
	q := url.Values{"reference": {reference}, "part": {part}}
	set(q, "platform", platform)
	req, err := c.request(ctx, http.MethodGet, "/api/v1/content", q, nil)
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
