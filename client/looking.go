package client

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"

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

// TagQuery says which tags of a repository are listed, and how.
type TagQuery struct {
	Match, Order, After string
	Ascending           bool
	Limit               int
}

// Tags lists a repository's tags as they were last seen.
func (c *Client) Tags(ctx context.Context, repository string, t TagQuery) (wire.Tags, error) {
	q := url.Values{"repository": {repository}}
	set(q, "match", t.Match)
	set(q, "order", t.Order)
	set(q, "after", t.After)
	if t.Ascending {
		q.Set("ascending", "true")
	}
	if t.Limit > 0 {
		q.Set("limit", strconv.Itoa(t.Limit))
	}
	return get[wire.Tags](ctx, c, "/api/v1/tags", q)
}

// maxLook bounds one line of the stream, in bytes.
const maxLook = 4 << 20

// LookAtTags has the service ask a repository for all its tags, and tells of each page as it comes.
func (c *Client) LookAtTags(ctx context.Context, repository string, each func(wire.TagsLook)) error {
	req, err := c.request(ctx, http.MethodGet, "/api/v1/tags/look", url.Values{"repository": {repository}}, nil)
	if err != nil {
		return err
	}
	resp, err := c.send(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, maxLook)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		var l wire.TagsLook
		if err := json.Unmarshal([]byte(data), &l); err != nil {
			return fmt.Errorf("client: the service's answer cannot be read: %w", err)
		}
		if l.Problem != nil {
			return Problem(*l.Problem)
		}
		each(l)
		if l.Done {
			return nil
		}
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	return fmt.Errorf("client: the look at %s broke off: %w", repository, io.ErrUnexpectedEOF)
}

// Across sets a component's tags side by side in all its places.
func (c *Client) Across(ctx context.Context, component, match string, attached bool) (wire.Across, error) {
	q := url.Values{"component": {component}}
	set(q, "match", match)
	if attached {
		q.Set("attached", "true")
	}
	return get[wire.Across](ctx, c, "/api/v1/tags/across", q)
}

// ExceptTags declares a gap that is meant, and gives its number.
func (c *Client) ExceptTags(ctx context.Context, n wire.NewTagException) (int64, error) {
	out, err := post[struct {
		Number int64 `json:"number"`
	}](ctx, c, "/api/v1/tag-exceptions", n)
	return out.Number, err
}

// EndTagException ends such an exception.
func (c *Client) EndTagException(ctx context.Context, number int64) error {
	_, err := call[wire.Health](ctx, c, http.MethodDelete, "/api/v1/tag-exceptions/"+itoa(number), nil, nil)
	return err
}

// Unpoint takes one tag away.
func (c *Client) Unpoint(ctx context.Context, u wire.Unpoint) (wire.TagChange, error) {
	return post[wire.TagChange](ctx, c, "/api/v1/tag-removals", u)
}

// Where finds what is known of a digest, commit, tag, component or image.
func (c *Client) Where(ctx context.Context, what string) (wire.Where, error) {
	return get[wire.Where](ctx, c, "/api/v1/where", url.Values{"what": {what}})
}

// Compare sets two images side by side.
func (c *Client) Compare(ctx context.Context, a, b string) (wire.Comparison, error) {
	return get[wire.Comparison](ctx, c, "/api/v1/comparison", url.Values{"a": {a}, "b": {b}})
}
