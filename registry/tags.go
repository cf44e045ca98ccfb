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

func (r *Repository) pageRequest(path string) request {
	return request{op: "list tags", method: http.MethodGet, repository: r.name, path: path, scopes: []string{scope(r.name, "pull")}}
}

// maxPages bounds a tag list: a registry that pages for ever is left.
const maxPages = 10_000

// Tags gives the repository's tags page by page, in the registry's order, to each. It stops at each's first error.
func (r *Repository) Tags(ctx context.Context, each func([]string) error) error {
	path := "/v2/" + r.name + "/tags/list?n=" + strconv.Itoa(r.c.cfg.Page)
	for range maxPages {
		var tags []string
		rq := r.pageRequest(path)
		rq.read = func(resp *http.Response) error {
			var err error
			tags, err = readTags(resp.Body)
			if err != nil {
				return r.c.broken(rq, err)
			}
			return nil
		}
		resp, err := r.c.send(ctx, rq)
		if err != nil {
			return err
		}
		if err := each(tags); err != nil {
			return err
		}
		next := nextPage(resp.Header.Get("Link"))
		if next == "" {
			return nil
		}
		to, err := resp.Request.URL.Parse(next)
		if err != nil || !r.c.own(to) || to.RequestURI() == path {
			return r.endless(fmt.Sprintf("a next page at %q", image.Printable(next)))
		}
		path = to.RequestURI()
	}
	return r.endless(fmt.Sprintf("more than %d pages", maxPages))
}

func (r *Repository) endless(seen string) error {
	return &problem.Problem{Kind: problem.RegistryError, Title: "The registry's list of tags does not end", Where: r.String(), Seen: seen,
		Remedy: "have the registry's paging mended; look at single tags meanwhile"}
}

// maxPage is the largest page of a tag list that is read, in bytes.
const maxPage = 4 << 20

func readTags(r io.Reader) ([]string, error) {
	raw, err := io.ReadAll(io.LimitReader(r, maxPage+1))
	if err != nil {
		return nil, err
	}
	if len(raw) > maxPage {
		return nil, fmt.Errorf("a page of more than %d bytes", maxPage)
	}
	var page struct {
		Tags []string `json:"tags"`
	}
	if err := json.Unmarshal(raw, &page); err != nil {
		return nil, fmt.Errorf("a list of tags that is not JSON: %w", err)
	}
	return page.Tags, nil
}

var linkNext = regexp.MustCompile(`<([^>]*)>\s*;[^,]*rel="?next"?`)

// nextPage reads the Link header of RFC 8288, as the distribution specification uses it for paging.
func nextPage(header string) string {
	if m := linkNext.FindStringSubmatch(header); m != nil {
		return m[1]
	}
	return ""
}
