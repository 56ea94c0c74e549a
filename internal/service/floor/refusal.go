package floor

import "fmt"

// RefusalKind says what sort of no it is.
type RefusalKind int

// The kinds of Refusal.
const (
	Invalid   RefusalKind = iota + 1 // the request makes no sense as it is
	NotFound                         // what it is about does not exist
	Conflict                         // it does not fit what is there now
	Forbidden                        // the asker may not
	Changed                          // it is not any more as the asker has seen it
)

// Refusal is a no with its reason, as one sentence for a person.
type Refusal struct {
	Kind   RefusalKind
	Field  string // the part of the request that is at fault, if one is
	Reason string
}

// Error returns the reason.
func (r *Refusal) Error() string { return r.Reason }

func refuse(kind RefusalKind, field, reason string, args ...any) error {
	return &Refusal{Kind: kind, Field: field, Reason: fmt.Sprintf(reason, args...)}
}
