package farm

import "time"

// Record is one change of the farm. Records are what is committed, what
// State.Apply takes and what the history of a run shows. A kind of Record is one
// type of this package, with all that this package knows of it; how it is kept is
// one row of the store's table.
type Record interface {
	// Kind names the Record where it is kept and on the wire.
	Kind() Kind
	// About says what the Record concerns.
	About() About
	// Wakes says what has to be looked at again when it is applied.
	Wakes() Wakes
	// apply makes the Record part of the farm. An error leaves the State as it is.
	apply(*State) error
}

// Kind names a kind of Record.
type Kind string

// Wakes is what a Record makes its owner look at again.
type Wakes uint8

// What a Record may wake.
const (
	WakesAsks   Wakes = 1 << iota // nodes that wait may get work
	WakesOrders                   // a lease may have to end
	WakesYields                   // a node may have to give back what it has not begun
	WakesAccess                   // who may do what has changed
)

// Records are one of each kind, in no order.
func Records() []Record {
	return []Record{
		NodeEnrolled{}, NodeStarted{}, NodeReach{}, NodeDuty{}, NodeHealth{},
		NodeSet{}, NodeAnnounced{}, NodeRenamed{}, NodeRetired{}, PoolSet{},
		PoolDropped{}, LaunchSettingsSet{}, FreezeSet{}, KeyRevoked{}, PlaceSet{},
		LicenceSet{}, RunSet{}, ProjectSet{}, PlaceDropped{}, ProjectDropped{},
		PersonSet{}, PersonRemoved{}, TokenIssued{}, TokenRevoked{}, KeyIssued{},
		RunSubmitted{}, RunMoved{}, RunKept{}, LeaseOpened{}, LeaseExtended{},
		LeaseTrimmed{}, LeaseEnded{}, FrameAccepted{}, FrameDone{}, DeliveryLost{},
		FrameFailed{}, FrameParked{}, FramesRetried{}, FramesRedone{}, Audited{},
		RecipeSet{}, RecipeDropped{}, PresetSet{}, PresetDropped{}, PresetChosen{}, RateSet{}, PreflightRuleSet{},
		RunStitched{}, NodeFound{}, WaitSet{}, FramesSkipped{}, SuspectAccepted{},
		HandRaised{}, HandEnded{}, HandActed{}, ChannelSet{}, ChannelDropped{}, OnCallSet{},
	}
}

// About says which run and node a Record concerns, when it happened and why,
// in a sentence where there is one. Run and Node are 0 where none is meant.
type About struct {
	Run    RunID
	Node   NodeID
	At     time.Time
	Reason string
}
