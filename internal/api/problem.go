package api

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"reflect"
	"strings"
	"unicode"

	"github.com/gin-gonic/gin"

	"vexillum/internal/fileschema"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
	"vexillum/internal/service/writer"
	"vexillum/internal/store"
	"vexillum/internal/wire"
)

// problems lists the codes of problems.
func (s *Server) problems(c *gin.Context) { c.JSON(http.StatusOK, wire.ProblemCodes()) }

// problem answers with an error as RFC 9457 has it.
func problem(c *gin.Context, status int, field, detail string) {
	problemWith(c, wire.Problem{Status: status, Detail: detail, Field: field})
}

// problemWith answers with a problem that says more.
func problemWith(c *gin.Context, p wire.Problem) {
	full := wire.ProblemOf(p.Status, p.Code)
	full.Detail, full.Field, full.Mistakes = p.Detail, p.Field, p.Mistakes
	body, err := json.Marshal(full)
	if err != nil {
		body = []byte(`{"type":"about:blank","title":"Error","detail":"the error could not be written"}`)
	}
	c.Abort()
	c.Data(full.Status, "application/problem+json", body)
}

var statusOf = map[refusal.Kind]int{
	refusal.Invalid: http.StatusUnprocessableEntity, refusal.NotFound: http.StatusNotFound,
	refusal.Conflict: http.StatusConflict, refusal.Forbidden: http.StatusForbidden,
	refusal.Changed: http.StatusPreconditionFailed, refusal.NoRoom: http.StatusInsufficientStorage,
}

// fail answers with what an error of the service means to the asker.
func (s *Server) fail(c *gin.Context, err error) {
	var no *refusal.Refusal
	var wrong *fileschema.MistakesError
	var one *queue.BatchError
	switch {
	case errors.As(err, &wrong):
		mistakes(c, "the file", wrong)
	case errors.As(err, &one) && errors.As(one.Err, &no):
		problem(c, statusOf[no.Kind], no.Field, no.Reason)
	case errors.As(err, &no):
		problem(c, statusOf[no.Kind], no.Field, no.Reason)
	case errors.Is(err, writer.ErrLoading):
		c.Header("Retry-After", "1")
		problemWith(c, wire.Problem{
			Status: http.StatusServiceUnavailable, Code: wire.ProblemLoading, Detail: writer.ErrGone.Error(),
		})
	case errors.Is(err, writer.ErrGone):
		c.Header("Retry-After", "1")
		problem(c, http.StatusServiceUnavailable, "", writer.ErrGone.Error())
	case errors.Is(err, store.ErrNotFound):
		problem(c, http.StatusNotFound, "", "there is no such thing")
	case errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		problem(c, http.StatusServiceUnavailable, "", "the request was cut off; try again")
	default:
		s.log.Error("request failed", "path", c.FullPath(), "error", err)
		problem(c, http.StatusInternalServerError, "", "the service has made a mistake; its log says more")
	}
}

// mistakes answers that a file that people write has mistakes, and where.
func mistakes(c *gin.Context, what string, wrong *fileschema.MistakesError) {
	all := mistakesView(wrong)
	detail := fmt.Sprintf("%s has a mistake: %s", what, wrong.Mistakes[0])
	if len(all) > 1 {
		detail = fmt.Sprintf("%s has %d mistakes; the first: %s", what, len(all), wrong.Mistakes[0])
	}
	problemWith(c, wire.Problem{
		Status: http.StatusUnprocessableEntity, Field: "text", Detail: detail, Mistakes: all,
	})
}

func mistakesView(wrong *fileschema.MistakesError) []wire.FileMistake {
	out := []wire.FileMistake{}
	for _, m := range wrong.Mistakes {
		out = append(out, wire.FileMistake{Line: m.At.Line, Column: m.At.Column, Field: m.Field, What: m.What})
	}
	return out
}

// maxBody bounds the body of a request in bytes.
const maxBody = 1 << 20

// body reads a JSON body into v and answers with a problem if it cannot.
func body(c *gin.Context, v any, most int64) bool {
	if kind, _, _ := mime.ParseMediaType(c.ContentType()); kind != "application/json" {
		problem(
			c, http.StatusUnsupportedMediaType, "Content-Type",
			"the body must be JSON, with Content-Type application/json",
		)
		return false
	}
	data, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, most))
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		problem(c, http.StatusRequestEntityTooLarge, "", fmt.Sprintf("the body has more than %d bytes", most))
		return false
	}
	if err != nil {
		problem(c, http.StatusBadRequest, "", "the body could not be read to its end; send it again")
		return false
	}
	if bytes.Contains(data, []byte(`\u0000`)) &&
		holds(data, func(r rune) bool { return r == 0 }) { // no database keeps it, and no file name has it
		problem(c, http.StatusBadRequest, "", "a text in the body holds the character NUL, which no text here may")
		return false
	}
	if strings.HasPrefix(c.FullPath(), "/api/") && holds(data, steers) {
		problem(
			c, http.StatusBadRequest, "",
			"a text in the body holds a control character, or one that turns the direction of reading; leave it out",
		)
		return false
	}
	d := json.NewDecoder(bytes.NewReader(data))
	d.DisallowUnknownFields()
	if err := d.Decode(v); err != nil {
		field, detail := explain(err)
		problem(c, http.StatusBadRequest, field, detail)
		return false
	}
	if d.More() {
		problem(c, http.StatusBadRequest, "", "the body goes on after its JSON value")
		return false
	}
	return true
}

// steers reports whether a character of what people send could steer a
// terminal, or the direction in which text is read there. Ends of lines and
// tabs have their place in values.
func steers(r rune) bool {
	return unicode.IsControl(r) && r != '\n' && r != '\t' || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069
}

// holds reports whether a text in JSON, key or value, holds such a character.
// What is no JSON holds none.
func holds(data []byte, such func(rune) bool) bool {
	d := json.NewDecoder(bytes.NewReader(data))
	for {
		token, err := d.Token()
		if err != nil {
			return false
		}
		if text, ok := token.(string); ok && strings.ContainsFunc(text, such) {
			return true
		}
	}
}

func explain(err error) (field, detail string) {
	var kind *json.UnmarshalTypeError
	var syntax *json.SyntaxError
	switch {
	case errors.As(err, &kind):
		return kind.Field, fmt.Sprintf("%s must be %s, not %s", fieldName(kind.Field), kindOf(kind.Type), given(kind.Value))
	case errors.As(err, &syntax):
		return "", fmt.Sprintf("the body is not JSON: %v at byte %d", err, syntax.Offset)
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return "", "the body is empty or ends too early; it must be JSON"
	}
	if name, ok := strings.CutPrefix(err.Error(), "json: unknown field "); ok {
		name = strings.Trim(name, `"`)
		return name, fmt.Sprintf("there is no field %q; check the spelling", name)
	}
	return "", fmt.Sprintf("the body does not fit: %v", err)
}

func fieldName(path string) string {
	if path == "" {
		return "the body"
	}
	return path
}

// kindOf names what a field takes as a person would.
func kindOf(t reflect.Type) string {
	switch t.Kind() {
	case reflect.Pointer:
		return kindOf(t.Elem())
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		return "a whole number"
	case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		return "a whole number, 0 or more"
	case reflect.Float32, reflect.Float64:
		return "a number"
	case reflect.Bool:
		return "true or false"
	case reflect.Slice, reflect.Array:
		return "a list"
	case reflect.Struct, reflect.Map:
		return "an object"
	}
	return "text"
}

// given names what stands in a field; a decoder says number 1.5, or only the kind of it.
func given(value string) string {
	if number, ok := strings.CutPrefix(value, "number "); ok {
		return number
	}
	switch value {
	case "string":
		return "text"
	case "bool":
		return "true or false"
	case "array":
		return "a list"
	case "object":
		return "an object"
	}
	return "a " + value
}

// hasControls reports whether a text holds characters that steer a terminal.
func hasControls(text string) bool { return strings.ContainsFunc(text, unicode.IsControl) }
