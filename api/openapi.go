package api

import (
	"encoding/json"
	"net/http"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"dovrak/api/wire"

	"github.com/swaggest/jsonschema-go"
	"github.com/swaggest/openapi-go"
	"github.com/swaggest/openapi-go/openapi31"
)

// Document is the OpenAPI 3.1 document of all routes, made from the types that they take and give.
func Document() ([]byte, error) {
	r := openapi31.NewReflector()
	r.Spec.Info.WithTitle("Dovrak").
		WithVersion("1").
		WithDescription("Governs how container images are tagged, pinned by digest, copied and promoted between registries.")
	r.Spec.SetHTTPBearerTokenSecurity("token", "", "A token, as dovrak token issue gives it.")
	r.Spec.SetAPIKeySecurity("session", sessionCookie, openapi.InCookie, "The console's session.")
	r.DefaultOptions = append(r.DefaultOptions, jsonschema.InterceptProp(asWritten), jsonschema.InterceptDefName(plainName))
	for _, rt := range allRoutes() {
		if err := describe(r, rt); err != nil {
			return nil, err
		}
	}
	return json.MarshalIndent(r.Spec, "", "  ")
}

var pathParam = regexp.MustCompile(`:(\w+)`)

func describe(r *openapi31.Reflector, rt route) error {
	oc, err := r.NewOperationContext(rt.method, pathParam.ReplaceAllString(rt.path, "{$1}"))
	if err != nil {
		return err
	}
	oc.SetID(rt.id)
	oc.SetSummary(rt.summary)
	if !rt.open {
		needs := string(rt.needs)
		if rt.orNeeds != "" {
			needs += " or " + string(rt.orNeeds)
		}
		oc.SetDescription("Needs the permission " + needs + ".")
		oc.AddSecurity("token")
		oc.AddSecurity("session")
	}
	oc.AddReqStructure(rt.in)
	status := max(rt.status, http.StatusOK)
	oc.AddRespStructure(rt.out, openapi.WithHTTPStatus(status), func(cu *openapi.ContentUnit) { cu.ContentType = rt.media })
	oc.AddRespStructure(
		wire.Problem{},
		openapi.WithContentType("application/problem+json"),
		func(cu *openapi.ContentUnit) { cu.IsDefault = true },
	)
	return r.AddOperation(oc)
}

// asWritten says of every property what JSON does with it: it is never null (what has no value is left out), and it is
// always there unless it says omitempty.
func asWritten(p jsonschema.InterceptPropParams) error {
	tag, ok := p.Field.Tag.Lookup("json")
	if !p.Processed || !ok || tag == "-" {
		return nil
	}
	p.PropertySchema.RemoveType(jsonschema.Null)
	if !strings.Contains(tag, ",omitempty") && !slices.Contains(p.ParentSchema.Required, p.Name) {
		p.ParentSchema.Required = append(p.ParentSchema.Required, p.Name)
	}
	return nil
}

// plainName names a type as Go does, without its package.
func plainName(t reflect.Type, _ string) string {
	return strings.ToUpper(t.Name()[:1]) + t.Name()[1:]
}
