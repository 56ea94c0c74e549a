package wire

import "time"

// Night is what went wrong in a while, what it cost, what was done about it, and what waits.
type Night struct {
	From    time.Time     `json:"from"`
	To      time.Time     `json:"to"`
	Tries   int           `json:"tries"`   // that failed
	Minutes float64       `json:"minutes"` // of nodes that these took
	Some    bool          `json:"some"`    // there were more than are told: the newest
	Causes  []NightCause  `json:"causes"`  // what cost most first
	Over    []NightBucket `json:"over"`    // over the time
	Deeds   []NightDeed   `json:"deeds"`   // what the farm has done by itself, the oldest first
	Ended   []NightRun    `json:"ended"`   // runs
	Hands   []PastHand    `json:"hands"`   // what needed a hand, the oldest first
	Outages []NightOutage `json:"outages"` // of the service and its database, the oldest first
}

// NightCause is what failed for one cause.
type NightCause struct {
	Cause   string   `json:"cause"`
	Tries   int      `json:"tries"`
	Frames  int      `json:"frames"`
	Open    int      `json:"open"` // of these, those that are neither done since nor given up
	Minutes float64  `json:"minutes"`
	Runs    []string `json:"runs"`
	Nodes   []string `json:"nodes"`
	Blame   string   `json:"blame"` // who was to blame most often; empty: it was not judged
}

// NightBucket is how many tries failed in a part of the while.
type NightBucket struct {
	At    time.Time      `json:"at"`    // its begin
	Tries map[string]int `json:"tries"` // by cause
}

// NightDeed is something that the farm has done by itself.
type NightDeed struct {
	At   time.Time `json:"at"`
	Run  int64     `json:"run"`  // 0: none
	Node int64     `json:"node"` // 0: none
	Text string    `json:"text"`
	// Times is how often the same was done; At is the first.
	Times int `json:"times"`
}

// NightRun is a run that ended.
type NightRun struct {
	Run    int64  `json:"run"`
	Name   string `json:"name"`
	State  string `json:"state"`
	Frames int    `json:"frames"` // that are done
	// EndedAt is when it ended.
	EndedAt time.Time  `json:"ended_at"`
	Due     *time.Time `json:"due"`          // when it had to be ready; null: at any time
	Late    float64    `json:"late_seconds"` // after Due; 0: in time, or without a due time
	Hours   float64    `json:"machine_hours"`
	Picture *int       `json:"picture"` // frame that shows it; null: none is done
}

// NightOutage is a time in which the service or its database was not there.
type NightOutage struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
	Why  string    `json:"why"`
}
