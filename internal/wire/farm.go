package wire

import "time"

// Farm is the whole farm at one moment.
type Farm struct {
	Seq      int64      `json:"seq"` // of the last change that is in it
	Now      time.Time  `json:"now"`
	Facts    FarmFacts  `json:"facts"`
	Runs     []Run      `json:"runs"`  // in the order of the queue, ended ones last
	Nodes    []Node     `json:"nodes"` // racks first, then desks, each by name
	Projects []Project  `json:"projects"`
	Hands    []NeedHand `json:"needs_a_hand"`
}

// FarmFacts is the line at the top of the page.
type FarmFacts struct {
	NodesRendering int        `json:"nodes_rendering"`
	NodesOnline    int        `json:"nodes_online"`
	FramesAnHour   int        `json:"frames_an_hour"`
	NextFinish     *time.Time `json:"next_finish"`
	Active         Active     `json:"active"`
}

// Active is the service that keeps the farm going.
type Active struct {
	Name  string    `json:"name"`
	Epoch int64     `json:"epoch"` // grows whenever another service becomes active, or the same one again
	Since time.Time `json:"since"`
	Why   string    `json:"why"` // it is active, in a sentence
}

// Member is a service that shares the farm's database.
type Member struct {
	Name    string    `json:"name"`
	Address string    `json:"address"`
	Version string    `json:"version"`
	Active  bool      `json:"active"`
	SeenAt  time.Time `json:"seen_at"`
}

// NeedHand is something that wants a person.
type NeedHand struct {
	// parked, failed, failing, nobody (can take it), sidelined, device, waiting, place (that is away), delivery, full, held,
	// preflight, at risk, scouts, silent or hush (many silent together)
	Kind     string `json:"kind"`
	Sentence string `json:"sentence"`
	Evidence string `json:"evidence"`
	Run      int64  `json:"run,omitempty"`
	Node     int64  `json:"node,omitempty"`
	// the place, recipe or pool that it is about, if it is about one
	Subject *Subject `json:"subject,omitempty"`
	Action  string   `json:"action"` // retry, release, look at run or look at node
}

// Subject names a place, a recipe or a pool.
type Subject struct {
	Kind string `json:"kind"` // place, recipe or pool
	Name string `json:"name"`
}
