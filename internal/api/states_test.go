package api

import (
	"fmt"
	"slices"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"

	"vexillum/internal/core/farm"
)

// TestStatesInTheDocument compares the states that the document lists with those
// that the farm has.
func TestStatesInTheDocument(t *testing.T) {
	doc, err := openapi3.NewLoader().LoadFromData(openAPI)
	if err != nil {
		t.Fatal(err)
	}
	var states []string
	for _, s := range farm.RunStates {
		states = append(states, string(s))
	}
	reach := []string{string(farm.Online), string(farm.Away), string(farm.Silent)}
	duty := []string{string(farm.OnDuty), string(farm.OffDuty), string(farm.Held), string(farm.Draining)}
	worst := slices.Concat(
		[]string{"retired", "announced", string(farm.Sidelined), "rendering", "ready"}, reach[1:], duty[1:],
	)
	for _, c := range []struct {
		schema, property string
		want             []string
	}{
		{"Run", "state", states},
		{"Receipt", "state", states},
		{"Run", "kind", []string{string(farm.Proof), string(farm.Final), string(farm.Correction)}},
		{"Node", "kind", []string{string(farm.Rack), string(farm.Desk)}},
		{"Node", "reach", reach},
		{"Node", "duty", duty},
		{"Node", "health", []string{string(farm.Fine), "warned", string(farm.Sidelined)}},
		{"Node", "state", worst},
	} {
		var listed []string
		for _, v := range doc.Components.Schemas[c.schema].Value.Properties[c.property].Value.Enum {
			listed = append(listed, fmt.Sprint(v))
		}
		slices.Sort(listed)
		slices.Sort(c.want)
		if !slices.Equal(listed, c.want) {
			t.Errorf("%s.%s is one of %q in the document, and of %q on the farm", c.schema, c.property, listed, c.want)
		}
	}
}
