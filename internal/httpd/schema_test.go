package httpd

import (
	"bytes"
	"encoding/json"
	"net/url"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"lantern/internal/api"
)

// described is the API description as JSON Schema sees it: its schemas are of that kind (OpenAPI 3.1). A field that no
// schema describes is an error.
func described(t *testing.T) (*jsonschema.Compiler, map[string]any) {
	var doc any
	require.NoError(t, yaml.Unmarshal(api.Document, &doc))
	b, err := json.Marshal(doc)
	require.NoError(t, err)
	whole, err := jsonschema.UnmarshalJSON(bytes.NewReader(b))
	require.NoError(t, err)
	var close func(v any)
	close = func(v any) {
		switch v := v.(type) {
		case map[string]any:
			_, open := v["additionalProperties"]
			if _, has := v["properties"].(map[string]any); has && v["type"] == "object" && !open {
				v["additionalProperties"] = false
			}
			for k, x := range v {
				if k != "allOf" && k != "PlanChange" { // which is part of another, with more fields
					close(x)
				}
			}
		case []any:
			for _, x := range v {
				close(x)
			}
		}
	}
	close(whole)
	c := jsonschema.NewCompiler()
	c.DefaultDraft(jsonschema.Draft2020)
	c.AssertFormat()
	require.NoError(t, c.AddResource("https://lantern.example/api.json", whole))
	return c, whole.(map[string]any)
}

// pointer makes a JSON pointer of parts (RFC 6901), as the fragment of an address.
func pointer(parts ...string) string {
	out := "#"
	for _, p := range parts {
		out += "/" + url.PathEscape(strings.NewReplacer("~", "~0", "/", "~1").Replace(p))
	}
	return out
}

// TestSchema: with a swap, a campaign, a test of a new drive, a light, an order, a plan, a rule, a channel and an
// inventory there, each answer to a question, and each refusal, is of the form that the description gives, field by
// field.
func TestSchema(t *testing.T) {
	s := newSite(t)
	var r api.Report
	require.NoError(t, json.Unmarshal([]byte(s.report()), &r))
	more := r.Drives[0]
	more.Identity, more.Bay = api.Identity{Wwn: "502abe7000000009", Model: "OSSFELL OF-8T", Serial: "KH3DD004"}, 4
	more.Reading.Tests = []api.SelfTest{{Kind: "short", Result: "passed", Hours: 90, Lba: -1}}
	r.Drives = append(r.Drives, more)
	b, err := json.Marshal(r)
	require.NoError(t, err)
	status, body, _ := s.call("POST", "/agent/reports", string(b), "Authorization", "Bearer "+s.host)
	require.Equal(t, 204, status, body)
	do := func(method, path, body string) map[string]any {
		t.Helper()
		status, answer, _ := s.as(method, path, body)
		require.Less(t, status, 300, "%s %s: %s", method, path, answer)
		var v map[string]any
		_ = json.Unmarshal([]byte(answer), &v) // some have no answer
		return v
	}
	swap := do("POST", "/swaps", `{"drive":"AA001"}`)
	do("POST", "/lights", `{"drive":"BB002","seconds":600}`)
	do("POST", "/acceptances", `{"drive":"DD004","extended":true}`)
	do("PUT", "/stock/DD004", `{"note":"cupboard"}`)
	do("PUT", "/inventory/AA001", `{"fields":{"supplier":"Kelp","warranty":"2031-01-01"},"note":"told"}`)
	do(
		"PUT",
		"/channels/pager",
		`{"kind":"webhook","url":"https://192.0.2.1/x","secret":"k3y-of-the-pager","least":"watch"}`,
	)
	do("PUT", "/rules/old", `{"expression":"power_on_hours > 50","says":"is old","verdict":"watch"}`)
	do("POST", "/invitations", `{"count":3,"hours":1}`)
	require.NoError(t, s.server.Service.Tick())

	id, _ := swap["id"].(string)
	looked, refused := answersFit(t, s, id)
	require.Greater(t, looked, 40)
	require.Positive(t, refused)
}

// TestSchemaEmpty: so is each answer of a service of which nothing is known yet: a list of nothing is a list.
func TestSchemaEmpty(t *testing.T) {
	looked, refused := answersFit(t, emptySite(t), "")
	require.Greater(t, looked, 30)
	require.Positive(t, refused)
}

// answersFit asks all that can be asked, and looks whether each answer is as it is described.
func answersFit(t *testing.T, s *site, swap string) (looked, refused int) {
	c, doc := described(t)
	names := map[string]string{
		"{pool}":        "plankton",
		"{drive}":       "AA001",
		"{host}":        "fulmar",
		"{kind}/{name}": "pool/plankton",
		"{id}":          "",
	}
	for _, op := range operations(t) {
		if op.method != "GET" || strings.HasPrefix(op.path, "/agent/") {
			continue
		}
		path := op.path
		for p, name := range names {
			if p == "{id}" && strings.HasPrefix(path, "/swaps/") {
				name = swap
			}
			path = strings.ReplaceAll(path, p, name)
		}
		switch op.id {
		case "getTrend":
			path += "?metric=pending_sectors"
		case "search":
			path += "?q=AA001"
		}
		status, body, h := s.as("GET", path, "")
		kind, _, _ := strings.Cut(h.Get("Content-Type"), ";")
		where := []string{"components", "schemas", "Problem"}
		if status < 400 {
			if kind != "application/json" {
				continue
			}
			where = []string{"paths", op.path, "get", "responses", "200", "content", kind, "schema"}
			if doc["paths"].(map[string]any)[op.path].(map[string]any)["get"].(map[string]any)["responses"].(map[string]any)["200"] == nil {
				t.Errorf("%s answers with %d, which is not described", op.id, status)
				continue
			}
			looked++
		} else {
			require.Equal(t, "application/problem+json", kind, op.id)
			refused++
		}
		schema, err := c.Compile("https://lantern.example/api.json" + pointer(where...))
		require.NoError(t, err, op.id)
		v, err := jsonschema.UnmarshalJSON(strings.NewReader(body))
		require.NoError(t, err, op.id)
		if err := schema.Validate(v); err != nil {
			t.Errorf("%s: %v\n%.600s", op.id, err, body)
		}
	}
	return looked, refused
}
