package node

import (
	"context"
	"errors"
	"slices"
	"testing"
	"time"

	"vexillum/internal/core/frames"
)

func cores(first, last int) frames.Set { return frames.Of(frames.Span{First: first, Last: last}) }

// TestATrialTakesWhatNoLeaseOwns gives trials their room beside leases: never a core or a device
// of theirs, and of memory their part.
func TestATrialTakesWhatNoLeaseOwns(t *testing.T) {
	machine := own{
		whole: true, cores: cores(0, 7), threads: 8, part: 1, memory: 64 << 30, limit: 64 << 30,
		devices: []string{"a", "b"}, numbers: []int{0, 1},
	}
	if got, free := machine.beside(nil); !free || !got.whole || got.threads != 8 {
		t.Errorf("on an idle machine: %+v", got)
	}
	if _, free := machine.beside([]own{{whole: true}}); free {
		t.Error("a trial begins beside a lease that has the machine for itself")
	}
	if _, free := machine.beside([]own{{cores: cores(0, 3)}, {cores: cores(4, 7)}}); free {
		t.Error("a trial begins where no core is free")
	}
	got, free := machine.beside([]own{{cores: cores(0, 3), devices: []string{"a"}}, {cores: cores(6, 6)}})
	if !free || got.whole || got.cores.String() != "4,5,7" && got.cores.String() != "4-5,7" || got.threads != 3 ||
		got.limit != 24<<30 || !slices.Equal(got.devices, []string{"b"}) || !slices.Equal(got.numbers, []int{1}) {
		t.Errorf("beside two leases: %+v, cores %v", got, got.cores)
	}
	o := newOwned()
	if err := o.take(t.Context(), 1, own{whole: true}, false); err != nil {
		t.Fatal(err)
	}
	gone, leave := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer leave()
	told := 0
	waits := func() { told++ }
	if _, err := o.takeFree(gone, -1, machine.beside, waits); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("a trial does not wait: %v", err)
	}
	if told != 1 {
		t.Errorf("the wait is reported %d times", told)
	}
	took := make(chan error)
	go func() { _, err := o.takeFree(t.Context(), -1, machine.beside, func() {}); took <- err }()
	o.giveBack(1)
	if err := <-took; err != nil {
		t.Error(err)
	}
	if o.by[-1].threads != 8 {
		t.Errorf("what the trial took is not noted: %+v", o.by)
	}
}
