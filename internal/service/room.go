package service

import (
	"github.com/dustin/go-humanize"
	"github.com/shirou/gopsutil/v4/disk"

	"vexillum/internal/service/refusal"
)

// What of the service's disk only records may use.
const (
	mostReserved = 20 << 30 // bytes, unless
	reservedPart = 20       // this part of it is less
)

// roomFor refuses what would take the room that records need on the disk of a folder.
func roomFor(bytes int64, folder string) error {
	d, err := disk.Usage(folder)
	if err != nil || d.Total == 0 {
		return nil //nolint:nilerr // then writing tells
	}
	return roomOn(d.Free, d.Total, bytes)
}

// roomOn is the rule of roomFor: bytes that are to come, on a disk with so much free of its total.
func roomOn(free, total uint64, bytes int64) error {
	keep := min(mostReserved, total/reservedPart)
	if free < keep+uint64(max(0, bytes)) {
		return refusal.New(
			refusal.NoRoom, "", "the service's disk has %s free, and keeps %s of it for its records; make room there",
			humanize.IBytes(free), humanize.IBytes(keep),
		)
	}
	return nil
}
