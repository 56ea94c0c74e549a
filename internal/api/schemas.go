package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"vexillum/internal/bundle"
	"vexillum/internal/drillfile"
	"vexillum/internal/jobfile"
	"vexillum/internal/recipe"
)

// schemas are those of the files that people and programs write, by name.
var schemas = map[string][]byte{
	"job": jobfile.Schema, "recipe": recipe.Schema, "manifest": bundle.Schema, "drill": drillfile.Schema,
}

// schema serves the schema of a kind of file. Its $id is the address at which it was asked for, so
// that editors and validators find it, and each other's.
func (s *Server) schema(c *gin.Context) {
	name := strings.TrimSuffix(c.Param("schema"), ".schema.json")
	text, known := schemas[name]
	if !known {
		problem(
			c, http.StatusNotFound, "schema",
			fmt.Sprintf("there is no schema %q; there are drill, job, manifest and recipe", c.Param("schema")),
		)
		return
	}
	var fields map[string]json.RawMessage
	if err := json.Unmarshal(text, &fields); err != nil {
		s.fail(c, fmt.Errorf("reading the schema %s: %w", name, err))
		return
	}
	scheme := "http"
	if s.secure || c.Request.TLS != nil {
		scheme = "https"
	}
	id, err := json.Marshal(scheme + "://" + c.Request.Host + "/api/v1/schemas/" + name)
	if err != nil {
		s.fail(c, fmt.Errorf("naming the schema %s: %w", name, err))
		return
	}
	fields["$id"] = id
	data, err := json.MarshalIndent(fields, "", "  ")
	if err != nil {
		s.fail(c, fmt.Errorf("writing the schema %s: %w", name, err))
		return
	}
	c.Data(http.StatusOK, "application/schema+json", data)
}
