package registry

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"regexp"
	"strconv"

	"dovrak/core/image"
	"dovrak/core/problem"
)

// maxPages bounds a list: a registry that pages for ever is left.
const maxPages = 10_000

// Tags gives the repository's tags page by page, in the registry's order, to each. It stops at each's first error.
func (r *Repository) Tags(ctx context.Context, each func([]string) error) error {
	return r.tags(ctx, r.c.cfg.Page, each)
}

func (r *Repository) tags(ctx context.Context, page int, each func([]string) error) error {
	rq := request{op: "list tags", method: http.MethodGet, repository: r.name, scopes: []string{scope(r.name, "pull")},
		path: "/v2/" + r.name + "/tags/list?n=" + strconv.Itoa(page)}
	return r.c.pages(ctx, rq, r.String(), func(resp *http.Response) error {
		var page struct{ Tags []string }
		if err := r.c.readPage(rq, r.String(), resp.Body, &page); err != nil {
			return err
		}
		return each(page.Tags)
	})
}

// Catalog gives the names of the registry's repositories page by page. The specification has no such list; many
// registries do, and one that has none answers with an error of kind NotFound or RegistryError.
func (c *Client) Catalog(ctx context.Context, each func([]string) error) error {
	rq := request{op: "list repositories", method: http.MethodGet, scopes: []string{"registry:catalog:*"},
		path: "/v2/_catalog?n=" + strconv.Itoa(c.cfg.Page)}
	return c.pages(ctx, rq, c.cfg.Name, func(resp *http.Response) error {
		var page struct{ Repositories []string }
		if err := c.readPage(rq, c.cfg.Name, resp.Body, &page); err != nil {
			return err
		}
		return each(page.Repositories)
	})
}

// pages asks for page after page, as the Link header leads, each within the limits.
func (c *Client) pages(ctx context.Context, rq request, where string, take func(*http.Response) error) error {
	for range maxPages {
		rq.read = take
		resp, err := c.send(ctx, rq)
		if err != nil {
			return err
		}
		next := nextPage(resp.Header.Get("Link"))
		if next == "" {
			return nil
		}
		to, err := resp.Request.URL.Parse(next)
		if err != nil || !c.own(to) || to.RequestURI() == rq.path {
			return endless(where, "a next page at "+image.Printable(next))
		}
		rq.path = to.RequestURI()
	}
	return endless(where, fmt.Sprintf("more than %d pages", maxPages))
}

func endless(where, seen string) error {
	return &problem.Problem{Kind: problem.RegistryError, Title: "The registry's list does not end", Where: where, Seen: seen,
		Remedy: "have the registry's paging mended; look at single tags meanwhile"}
}

// maxPage is the largest page of a list that is read, in bytes.
const maxPage = 4 << 20

func (c *Client) readPage(rq request, where string, body io.Reader, into any) error {
	raw, err := io.ReadAll(io.LimitReader(body, maxPage+1))
	if err != nil {
		return c.broken(rq, err)
	}
	p := &problem.Problem{Kind: problem.RegistryError, Title: "The registry's list cannot be read", Asked: rq.op, Where: where,
		Remedy: "see whether the address is that of a registry, and what lies between"}
	if len(raw) > maxPage {
		p.Seen = fmt.Sprintf("a page of more than %d bytes", maxPage)
		return p
	}
	if err := json.Unmarshal(raw, into); err != nil {
		p.Seen = "not the JSON it should be: " + image.Printable(err.Error())
		return p
	}
	return nil
}

var linkNext = regexp.MustCompile(`<([^>]*)>\s*;[^,]*rel="?next"?`)

// nextPage reads the Link header of RFC 8288, as the distribution specification uses it for paging.
func nextPage(header string) string {
	if m := linkNext.FindStringSubmatch(header); m != nil {
		return m[1]
	}
	return ""
}
