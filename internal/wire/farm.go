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
	ID int64 `json:"id"` // 0: it was seen just now, and has none yet
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

	Since        *time.Time `json:"since"`         // null: just now
	Count        int        `json:"count"`         // how often it has come
	TakenBy      string     `json:"taken_by"`      // who sees to it; empty: nobody
	SnoozedBy    string     `json:"snoozed_by"`    // who has put it off; empty: nobody
	SnoozedUntil *time.Time `json:"snoozed_until"` // null: it is not put off
	Cost         HandCost   `json:"cost"`
}

// HandCost is what something costs as long as nobody sees to it.
type HandCost struct {
	Frames  int        `json:"frames"`  // that are not rendered because of it
	Minutes float64    `json:"minutes"` // of one node that these take, or that a node is missing in an hour
	Due     *time.Time `json:"due"`     // when the first of these frames must be ready; null: never
	Text    string     `json:"text"`    // in words; empty: nothing
}

// HandAct is what a person does about something that needs a hand.
type HandAct struct {
	Hands  []int64    `json:"hands"` // their numbers; all of them, or where one cannot be none
	Do     string     `json:"do"`    // take, leave, snooze, wake, resolve or reopen
	Until  *time.Time `json:"until"` // of a snooze
	Note   string     `json:"note"`  // of who resolves it
	DryRun bool       `json:"dry_run"`
}

// HandsActed is what came of a HandAct, or would come of it.
type HandsActed struct {
	Hands  []HandActed `json:"hands"`
	DryRun bool        `json:"dry_run"`
}

// HandActed is something that needs a hand and about which something was done.
type HandActed struct {
	ID       int64  `json:"id"`
	Sentence string `json:"sentence"`
	Changed  bool   `json:"changed"` // false: it was so already
}

// PastHand is something that needed a hand, or still does.
type PastHand struct {
	ID           int64      `json:"id"`
	Kind         string     `json:"kind"`
	Run          int64      `json:"run"`  // 0: none
	Node         int64      `json:"node"` // 0: none
	Sentence     string     `json:"sentence"`
	Evidence     string     `json:"evidence"`
	Count        int        `json:"count"`
	RaisedAt     time.Time  `json:"raised_at"`
	LastAt       time.Time  `json:"last_at"`
	EndedAt      *time.Time `json:"ended_at"` // null: it is not over
	TakenBy      string     `json:"taken_by"`
	TakenAt      *time.Time `json:"taken_at"`
	SnoozedBy    string     `json:"snoozed_by"`
	SnoozedUntil *time.Time `json:"snoozed_until"`
	ResolvedBy   string     `json:"resolved_by"`
	ResolvedAt   *time.Time `json:"resolved_at"`
	Note         string     `json:"note"`
}

// PastHands is a page of what needed a hand, newest first.
type PastHands struct {
	Hands []PastHand `json:"hands"`
	Next  int64      `json:"next"` // before which the next page begins; 0: this is the last
}

// Subject names a place, a recipe or a pool.
type Subject struct {
	Kind string `json:"kind"` // place, recipe or pool
	Name string `json:"name"`
}
