package registry

import (
	"encoding/json"
	"fmt"
	"io"
	"regexp"
)

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
