package node

import "testing"

// TestASpeedMeasuredOnABusyMachineIsDoubted keeps an index that was measured on a busy machine only
// until it is measured on a calm one; a lower or hardly higher one changes nothing.
func TestASpeedMeasuredOnABusyMachineIsDoubted(t *testing.T) {
	var s speed
	s.set(0.4, true)
	if !s.doubted() || s.index() != 0.4 {
		t.Errorf("doubted %v, index %v", s.doubted(), s.index())
	}
	if !s.better(1.2) || s.index() != 1.2 || s.doubted() {
		t.Errorf("measured on a calm machine: index %v, doubted %v", s.index(), s.doubted())
	}
	for _, index := range []float64{0.9, 1.2, 1.21} {
		if s.better(index) || s.index() != 1.2 {
			t.Errorf("%v changed the index to %v", index, s.index())
		}
	}
	s.set(2, false)
	if s.doubted() {
		t.Error("an index measured on a calm machine is doubted")
	}
}
