package deal

// P90Factor is p90Factor, for tests.
var P90Factor = p90Factor
