package wire

// BundleState says what of a bundle the service has.
type BundleState struct {
	ID           string           `json:"id"` // SHA-256 of its manifest
	Files        int              `json:"files"`
	Bytes        int64            `json:"bytes"` // each content once
	MissingBytes int64            `json:"missing_bytes"`
	Missing      []MissingContent `json:"missing"` // what is still to be sent
}

// MissingContent names the pieces of a content that are not here.
type MissingContent struct {
	Hash   string `json:"hash"`
	Pieces []int  `json:"pieces"` // from 0
}
