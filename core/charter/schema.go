package charter

import (
	"encoding/json"
	"reflect"
	"strings"

	"github.com/swaggest/jsonschema-go"
)

// SchemaID names the schema; a charter's first line may say: # yaml-language-server: $schema=charter.schema.json
const SchemaID = "urn:dovrak:charter"

// Schema is the JSON Schema (draft 7) of a charter, for editors: which keys there are, of what kind, and what each is for. What it
// cannot say, such as that a name leads somewhere, [Parse] tells.
func Schema() ([]byte, error) {
	r := jsonschema.Reflector{}
	s, err := r.Reflect(Charter{},
		jsonschema.PropertyNameTag("yaml"),
		jsonschema.InterceptDefName(func(_ reflect.Type, name string) string {
			return strings.TrimPrefix(strings.TrimPrefix(name, "Charter"), "Gate")
		}),
		jsonschema.InterceptSchema(strict),
		jsonschema.InterceptNullability(func(p jsonschema.InterceptNullabilityParams) { p.Schema.RemoveType(jsonschema.Null) }),
	)
	if err != nil {
		return nil, err
	}
	s.WithID(SchemaID).WithSchema("http://json-schema.org/draft-07/schema#").WithTitle("A charter of Dovrak")
	return json.MarshalIndent(s, "", "  ")
}

// strict refuses keys that there are not.
func strict(p jsonschema.InterceptSchemaParams) (bool, error) {
	if p.Processed && len(p.Schema.Properties) > 0 {
		p.Schema.AdditionalPropertiesEns().WithTypeBoolean(false)
	}
	return false, nil
}
