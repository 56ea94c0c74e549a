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

// Holding says what a node has of a bundle that it fetches, or has fetched.
type Holding struct {
	Session int64    `json:"session"`
	Bundle  string   `json:"bundle"`
	Have    string   `json:"have"` // a bit for each piece through all contents, the first in the lowest, in base64
	Pieces  int      `json:"pieces"`
	Want    int      `json:"want"`           // seeds that it could take
	Shun    []string `json:"shun,omitempty"` // nodes that gave rubbish or nothing
	Port    int      `json:"port"`           // where it gives pieces to other nodes; 0: it does not
}

// Sharing answers Holding: where pieces are to be had now.
type Sharing struct {
	Seeds []int         `json:"seeds"` // that nobody else gets from the service now
	Peers []SharingPeer `json:"peers"`
}

// SharingPeer is another node that has some of a bundle.
type SharingPeer struct {
	Name    string `json:"name"`
	Address string `json:"address"` // machine and port
	Permit  string `json:"permit"`  // signed by the service, good for a minute or two
	Have    string `json:"have"`    // as in Holding
}
