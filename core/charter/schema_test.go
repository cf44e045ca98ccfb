package charter

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
)

// TestSchema takes what the reader takes, and refuses what can be seen to be wrong without knowing what names lead to.
func TestSchema(t *testing.T) {
	raw, err := Schema()
	if err != nil {
		t.Fatal(err)
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource(SchemaID, doc); err != nil {
		t.Fatal(err)
	}
	schema, err := c.Compile(SchemaID)
	if err != nil {
		t.Fatal(err)
	}
	full := ruled(`    promote: [desk]
    also-from: [bench]
    approvals: {count: 1, from: [operations], good-for: 12h}
    emergency: {approvals: {count: 1, from: [operations]}, waives: [soak]}
    gates: [{name: soak, been-in: bench, for: 1h}, {name: light, holds: image.size < 200 * MiB, refusal: too heavy}]
    freezes: [{name: weekend, weekly: fri 15:00 to mon 07:00, zone: Europe/Oslo}]
`) + "adoption: {count: 1, from: [operations]}\n"
	for _, tt := range []struct {
		name, doc string
		fits      bool
	}{
		{"a charter", good, true},
		{"one with all rules", full, true},
		{"an unknown key", strings.Replace(full, "    promote:", "    promoted:", 1), false},
		{"an unknown key far below", strings.Replace(full, "waives:", "waive:", 1), false},
		{"a key of a gate that there is not", strings.Replace(full, "been-in:", "stood-in:", 1), false},
		{"a role that there is not", strings.Replace(full, "[read, point]", "[read, approve]", 1), false},
		{"a word in place of a list", strings.Replace(full, "promote: [desk]", "promote: desk", 1), false},
		{"no standing tag", strings.Replace(full, "    standing: main\n", "", 1), false},
		{"no count", strings.Replace(full, "{count: 1, from: [operations], good-for: 12h}", "{from: [operations]}", 1), false},
	} {
		var v any
		if err := yaml.Unmarshal([]byte(tt.doc), &v); err != nil {
			t.Fatal(err)
		}
		asJSON, err := json.Marshal(v)
		if err != nil {
			t.Fatal(err)
		}
		inst, err := jsonschema.UnmarshalJSON(bytes.NewReader(asJSON))
		if err != nil {
			t.Fatal(err)
		}
		if err := schema.Validate(inst); (err == nil) != tt.fits {
			t.Errorf("%s: %v", tt.name, err)
		}
		if _, err := Parse([]byte(tt.doc)); (err == nil) != tt.fits {
			t.Errorf("%s, by the reader: %v", tt.name, err)
		}
	}
	var said func(at string, v map[string]any)
	said = func(at string, v map[string]any) {
		for name, p := range v {
			prop := p.(map[string]any)
			if _, refers := prop["$ref"]; prop["description"] == nil && !refers && prop["allOf"] == nil {
				t.Errorf("%s.%s has no description", at, name)
			}
		}
	}
	var whole map[string]any
	if err := json.Unmarshal(raw, &whole); err != nil {
		t.Fatal(err)
	}
	for name, d := range whole["definitions"].(map[string]any) {
		if props, ok := d.(map[string]any)["properties"].(map[string]any); ok {
			said(name, props)
		}
	}
}
