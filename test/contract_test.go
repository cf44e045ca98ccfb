package test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"

	"dovrak/api"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
)

// contract is the OpenAPI document, held against real requests and answers.
type contract struct {
	t      testing.TB
	routes routers.Router
}

func document(t testing.TB) *openapi3.T {
	t.Helper()
	raw, err := api.Document()
	must(t, err)
	doc, err := openapi3.NewLoader().LoadFromData(raw)
	must(t, err)
	must(t, doc.Validate(context.Background(), openapi3.IsOpenAPI31OrLater()))
	return doc
}

func newContract(t testing.TB) *contract {
	routes, err := gorillamux.NewRouter(document(t))
	must(t, err)
	return &contract{t, routes}
}

// answer checks one answer; a stream of events is checked by its type alone.
func (c *contract) answer(resp *http.Response) error {
	if !strings.HasPrefix(resp.Request.URL.Path, "/api/") || resp.Request.URL.Path == "/api/v1/openapi.json" {
		return nil
	}
	if err := c.check(resp); err != nil {
		c.t.Errorf("%s %s: %v", resp.Request.Method, resp.Request.URL.Path, err)
	}
	return nil
}

func (c *contract) check(resp *http.Response) error {
	ask := resp.Request.Clone(context.Background())
	ask.URL.Scheme, ask.URL.Host = "", ""
	route, params, err := c.routes.FindRoute(ask)
	if err != nil {
		if resp.StatusCode == http.StatusNotFound {
			return nil // nothing is there, and the answer says so
		}
		return fmt.Errorf("the document does not know it: %w", err)
	}
	if strings.HasPrefix(resp.Header.Get("Content-Type"), "text/event-stream") {
		return nil
	}
	raw, err := io.ReadAll(resp.Body)
	if err != nil {
		return nil // the service was killed under it
	}
	resp.Body = io.NopCloser(bytes.NewReader(raw))
	in := &openapi3filter.ResponseValidationInput{
		RequestValidationInput: &openapi3filter.RequestValidationInput{Request: ask, PathParams: params, Route: route},
		Status:                 resp.StatusCode, Header: resp.Header, Options: &openapi3filter.Options{IncludeResponseStatus: true},
	}
	in.SetBodyBytes(raw)
	if err := openapi3filter.ValidateResponse(context.Background(), in); err != nil {
		return fmt.Errorf("status %d: %w\n%s", resp.StatusCode, err, raw)
	}
	return nil
}

// TestTheContractIsChecked plants an answer that breaks the document, so that a check which sees nothing is found out.
func TestTheContractIsChecked(t *testing.T) {
	c := newContract(t)
	for name, body := range map[string]string{
		"a field is missing": `{"name":"Ragna","kind":"person","may":["read"],"groups":[],"promotesIn":[],"rollsBackIn":[],"approvesIn":[]}`,
		"a word is not one":  `{"name":"Ragna","kind":"ghost","may":["read"],"groups":[],"promotesIn":[],"rollsBackIn":[],"approvesIn":[],"expires":"2026-03-03T09:15:00Z"}`,
		"a list is null":     `{"name":"Ragna","kind":"person","may":null,"groups":[],"promotesIn":[],"rollsBackIn":[],"approvesIn":[],"expires":"2026-03-03T09:15:00Z"}`,
		"right":              `{"name":"Ragna","kind":"person","may":["read"],"groups":[],"promotesIn":[],"rollsBackIn":[],"approvesIn":[],"expires":"2026-03-03T09:15:00Z"}`,
	} {
		req, err := http.NewRequest(http.MethodGet, "http://x/api/v1/whoami", nil)
		must(t, err)
		err = c.check(
			&http.Response{
				StatusCode: 200,
				Request:    req,
				Header:     http.Header{"Content-Type": {"application/json"}},
				Body:       io.NopCloser(strings.NewReader(body)),
			},
		)
		if (err == nil) != (name == "right") {
			t.Errorf("%s: %v", name, err)
		}
	}
}
