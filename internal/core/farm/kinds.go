package farm

// Kind implements Record.
func (r NodeEnrolled) Kind() string { return "node enrolled" }

// About implements Record.
func (r NodeEnrolled) About() About { return About{Node: r.Node, At: r.At} }

// Kind implements Record.
func (r NodeStarted) Kind() string { return "node started" }

// About implements Record.
func (r NodeStarted) About() About { return About{Node: r.Node, At: r.At} }

// Kind implements Record.
func (r NodeReach) Kind() string { return "node reach" }

// About implements Record.
func (r NodeReach) About() About { return About{Node: r.Node, At: r.At, Reason: r.Reason} }

// Kind implements Record.
func (r NodeDuty) Kind() string { return "node duty" }

// About implements Record.
func (r NodeDuty) About() About { return About{Node: r.Node, At: r.At, Reason: r.Reason} }

// Kind implements Record.
func (r LicenceSet) Kind() string { return "licence set" }

// About implements Record.
func (r LicenceSet) About() About { return About{At: r.At, Reason: r.Reason} }

// Kind implements Record.
func (r RunSet) Kind() string { return "run set" }

// About implements Record.
func (r RunSet) About() About { return About{Run: r.Run, At: r.At, Reason: r.Reason} }

// Kind implements Record.
func (r PlaceSet) Kind() string { return "place set" }

// About implements Record.
func (r PlaceSet) About() About { return About{At: r.At} }

// Kind implements Record.
func (r ProjectSet) Kind() string { return "project set" }

// About implements Record.
func (r ProjectSet) About() About { return About{At: r.At} }

// Kind implements Record.
func (r PlaceDropped) Kind() string { return "place dropped" }

// About implements Record.
func (r PlaceDropped) About() About { return About{At: r.At} }

// Kind implements Record.
func (r ProjectDropped) Kind() string { return "project dropped" }

// About implements Record.
func (r ProjectDropped) About() About { return About{At: r.At} }

// Kind implements Record.
func (r PersonSet) Kind() string { return "person set" }

// About implements Record.
func (r PersonSet) About() About { return About{At: r.At} }

// Kind implements Record.
func (r PersonRemoved) Kind() string { return "person removed" }

// About implements Record.
func (r PersonRemoved) About() About { return About{At: r.At} }

// Kind implements Record.
func (r TokenIssued) Kind() string { return "token issued" }

// About implements Record.
func (r TokenIssued) About() About { return About{Node: r.Node, At: r.At} }

// Kind implements Record.
func (r TokenRevoked) Kind() string { return "token revoked" }

// About implements Record.
func (r TokenRevoked) About() About { return About{At: r.At} }

// Kind implements Record.
func (r KeyIssued) Kind() string { return "key issued" }

// About implements Record.
func (r KeyIssued) About() About { return About{At: r.At} }

// Kind implements Record.
func (r RunSubmitted) Kind() string { return "run submitted" }

// About implements Record.
func (r RunSubmitted) About() About { return About{Run: r.Run, At: r.At, Reason: r.Reason} }

// Kind implements Record.
func (r RunMoved) Kind() string { return "run moved" }

// About implements Record.
func (r RunMoved) About() About { return About{Run: r.Run, At: r.At, Reason: r.Reason} }

// Kind implements Record.
func (r RunKept) Kind() string { return "run kept" }

// About implements Record.
func (r RunKept) About() About { return About{Run: r.Run, At: r.At} }

// Kind implements Record.
func (r LeaseOpened) Kind() string { return "lease opened" }

// About implements Record.
func (r LeaseOpened) About() About {
	return About{Run: r.Run, Node: r.Node, At: r.At, Reason: r.Reason}
}

// Kind implements Record.
func (r LeaseExtended) Kind() string { return "lease extended" }

// About implements Record.
func (r LeaseExtended) About() About {
	return About{Run: r.Run, Node: r.Node, At: r.At, Reason: r.Reason}
}

// Kind implements Record.
func (r LeaseTrimmed) Kind() string { return "lease trimmed" }

// About implements Record.
func (r LeaseTrimmed) About() About {
	return About{Run: r.Run, Node: r.Node, At: r.At, Reason: r.Reason}
}

// Kind implements Record.
func (r LeaseEnded) Kind() string { return "lease ended" }

// About implements Record.
func (r LeaseEnded) About() About { return About{Run: r.Run, Node: r.Node, At: r.At, Reason: r.Reason} }

// Kind implements Record.
func (r FrameAccepted) Kind() string { return "frame accepted" }

// About implements Record.
func (r FrameAccepted) About() About { return About{Run: r.Run, Node: r.Node, At: r.At} }

// Kind implements Record.
func (r FrameDone) Kind() string { return "frame done" }

// About implements Record.
func (r FrameDone) About() About { return About{Run: r.Run, Node: r.Node, At: r.At} }

// Kind implements Record.
func (r DeliveryLost) Kind() string { return "delivery lost" }

// About implements Record.
func (r DeliveryLost) About() About {
	return About{Run: r.Run, Node: r.Node, At: r.At, Reason: r.Reason}
}

// Kind implements Record.
func (r FrameFailed) Kind() string { return "frame failed" }

// About implements Record.
func (r FrameFailed) About() About {
	return About{Run: r.Run, Node: r.Node, At: r.At, Reason: r.Reason}
}

// Kind implements Record.
func (r FrameParked) Kind() string { return "frame parked" }

// About implements Record.
func (r FrameParked) About() About { return About{Run: r.Run, At: r.At, Reason: r.Reason} }

// Kind implements Record.
func (r FramesRetried) Kind() string { return "frames retried" }

// About implements Record.
func (r FramesRetried) About() About { return About{Run: r.Run, At: r.At, Reason: r.Reason} }

// Kind implements Record.
func (r FramesRedone) Kind() string { return "frames redone" }

// About implements Record.
func (r FramesRedone) About() About { return About{Run: r.Run, At: r.At, Reason: r.Reason} }

// Kind implements Record.
func (r Audited) Kind() string { return "audited" }

// About implements Record.
func (r Audited) About() About { return About{Run: r.Run, Node: r.Node, At: r.At} }

// Kind implements Record.
func (r NodeHealth) Kind() string { return "node health" }

// About implements Record.
func (r NodeHealth) About() About { return About{Node: r.Node, At: r.At, Reason: r.Reason} }

// Kind implements Record.
func (r NodeSet) Kind() string { return "node set" }

// About implements Record.
func (r NodeSet) About() About { return About{Node: r.Node, At: r.At, Reason: r.Reason} }

// Kind implements Record.
func (r NodeAnnounced) Kind() string { return "node announced" }

// About implements Record.
func (r NodeAnnounced) About() About { return About{Node: r.Node, At: r.At} }

// Kind implements Record.
func (r NodeRenamed) Kind() string { return "node renamed" }

// About implements Record.
func (r NodeRenamed) About() About { return About{Node: r.Node, At: r.At} }

// Kind implements Record.
func (r NodeRetired) Kind() string { return "node retired" }

// About implements Record.
func (r NodeRetired) About() About { return About{Node: r.Node, At: r.At, Reason: r.Reason} }

// Kind implements Record.
func (r PoolSet) Kind() string { return "pool set" }

// About implements Record.
func (r PoolSet) About() About { return About{At: r.At} }

// Kind implements Record.
func (r PoolDropped) Kind() string { return "pool dropped" }

// Kind returns the record's name.
func (r StaySet) Kind() string { return "stay set" }

// About returns what the record concerns.
func (r StaySet) About() About { return About{At: r.At} }

// Kind returns the record's name.
func (r LaunchSettingsSet) Kind() string { return "launch settings set" }

// About returns what the record concerns.
func (r LaunchSettingsSet) About() About { return About{At: r.At} }

// About implements Record.
func (r PoolDropped) About() About { return About{At: r.At} }

// Kind implements Record.
func (r KeyRevoked) Kind() string { return "key revoked" }

// About implements Record.
func (r KeyRevoked) About() About { return About{At: r.At} }
