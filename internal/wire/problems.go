package wire

import "net/http"

// The codes of problems. They never change their meaning.
const (
	ProblemInvalid      = "invalid"
	ProblemSignIn       = "sign-in"
	ProblemForbidden    = "forbidden"
	ProblemNotFound     = "not-found"
	ProblemMethod       = "method"
	ProblemConflict     = "conflict"
	ProblemChanged      = "changed"
	ProblemTooLarge     = "too-large"
	ProblemMediaType    = "media-type"
	ProblemPrecondition = "if-match"
	ProblemTooMany      = "too-many"
	ProblemInternal     = "internal"
	ProblemUnavailable  = "unavailable"
	ProblemLoading      = "loading"
	ProblemNoRoom       = "no-room"
)

// ProblemCode describes a code of problems.
type ProblemCode struct {
	Code    string `json:"code"`
	Status  int    `json:"status"` // of the answer
	Meaning string `json:"meaning"`
}

// ProblemCodes returns all codes. The first of a status is that of problems without a more
// precise one.
func ProblemCodes() []ProblemCode {
	return []ProblemCode{
		{ProblemInvalid, 422, "The request is not valid; field names the part at fault."},
		{ProblemInvalid, 400, "The request cannot be read; field names the part at fault."},
		{ProblemSignIn, 401, "The request needs a valid token or session."},
		{ProblemForbidden, 403, "The person may not do this."},
		{ProblemNotFound, 404, "It does not exist, or the person may not see it."},
		{ProblemMethod, 405, "The address does not have this method."},
		{ProblemConflict, 409, "The present state does not allow it; the detail says what to do first."},
		{ProblemChanged, 412, "Somebody changed it since it was read: read it again."},
		{ProblemTooLarge, 413, "The body is larger than allowed."},
		{ProblemMediaType, 415, "The body is of another media type than the address takes."},
		{ProblemPrecondition, 428, "The address needs If-Match with the ETag that was read."},
		{ProblemTooMany, 429, "Too many requests: wait for the seconds in Retry-After."},
		{ProblemInternal, 500, "The service made a mistake; its log says more."},
		{ProblemUnavailable, 503, "The request was interrupted, and may have been carried out: read the state first."},
		{ProblemLoading, 503, "The service is loading its records and did nothing: repeat the request."},
		{ProblemNoRoom, 507, "A disk is full."},
	}
}

// problemTypes is the address of the list of codes, relative to the service.
const problemTypes = "/api/v1/problems#"

// ProblemOf returns a problem of a status with its code, title and type; code is empty for the
// first of the status.
func ProblemOf(status int, code string) Problem {
	for _, c := range ProblemCodes() {
		if c.Status == status && (code == "" || c.Code == code) {
			code = c.Code
			break
		}
	}
	if code == "" {
		code = ProblemInternal
	}
	return Problem{Type: problemTypes + code, Title: http.StatusText(status), Status: status, Code: code}
}
