package export

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"tidepull/internal/run"
)

// TestSchema holds the published schemas against a summary and a survey: every field is described, and every field that
// is described and required is there.
func TestSchema(t *testing.T) {
	sum, err := json.Marshal(run.Summarise(snapshot(t)))
	if err != nil {
		t.Fatal(err)
	}
	s := surveyed(t)
	text, err := s.json()
	if err != nil {
		t.Fatal(err)
	}
	for name, b := range map[string][]byte{"summary": sum, "survey": text} {
		text, err := os.ReadFile("../../../docs/" + name + ".schema.json")
		if err != nil {
			t.Fatal(err)
		}
		var schema map[string]any
		if err := json.Unmarshal(text, &schema); err != nil {
			t.Fatal(err)
		}
		var value any
		if err := json.Unmarshal(b, &value); err != nil {
			t.Fatal(err)
		}
		defs, _ := schema["$defs"].(map[string]any)
		matches(t, name, schema, defs, value)
	}
}

// matches checks the part of JSON Schema that the published one uses.
func matches(t *testing.T, at string, schema, defs map[string]any, v any) {
	t.Helper()
	if ref, ok := schema["$ref"].(string); ok {
		schema, _ = defs[strings.TrimPrefix(ref, "#/$defs/")].(map[string]any)
	}
	kinds := map[string]bool{}
	switch v := v.(type) {
	case map[string]any:
		kinds["object"] = true
	case []any:
		kinds["array"] = true
	case string:
		kinds["string"] = true
	case bool:
		kinds["boolean"] = true
	case float64:
		kinds["number"] = true
		kinds["integer"] = v == float64(int64(v))
	case nil:
		kinds["null"] = true
	}
	switch want := schema["type"].(type) {
	case string:
		if !kinds[want] {
			t.Errorf("%s is %v, the schema wants %s", at, v, want)
		}
	case []any:
		if !kinds[want[0].(string)] && !kinds[want[1].(string)] {
			t.Errorf("%s is %v, the schema wants one of %v", at, v, want)
		}
	default:
		t.Errorf("%s has no type in the schema", at)
	}
	if list, ok := v.([]any); ok {
		items, _ := schema["items"].(map[string]any)
		for _, x := range list {
			matches(t, at+"[]", items, defs, x)
		}
	}
	object, ok := v.(map[string]any)
	if !ok {
		return
	}
	properties, _ := schema["properties"].(map[string]any)
	rest, _ := schema["additionalProperties"].(map[string]any)
	for name, x := range object {
		p, known := properties[name].(map[string]any)
		switch {
		case known:
			matches(t, at+"."+name, p, defs, x)
		case rest != nil:
			matches(t, at+"."+name, rest, defs, x)
		default:
			t.Errorf("%s.%s is not in the schema", at, name)
		}
	}
	required, _ := schema["required"].([]any)
	for _, name := range required {
		if _, there := object[name.(string)]; !there {
			t.Errorf("%s.%s is required and not there", at, name)
		}
	}
}
