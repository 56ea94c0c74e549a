package picture

import (
	"encoding/binary"
	"errors"
)

var errCutOff = errors.New("it is cut off")

// tiffWhole looks that everything a TIFF's first directory points to lies
// inside the file. The decoder itself reads only what the pixels need. The
// layout is that of TIFF 6.0, section 2.
func tiffWhole(data []byte) error {
	if len(data) < 8 {
		return errCutOff
	}
	var order binary.ByteOrder = binary.LittleEndian
	if data[0] == 'M' {
		order = binary.BigEndian
	}
	sizes := [...]uint64{0, 1, 1, 2, 4, 8, 1, 1, 2, 4, 8, 4, 8} // bytes by field type
	all := uint64(len(data))
	at := uint64(order.Uint32(data[4:]))
	if at+2 > all {
		return errCutOff
	}
	entries := uint64(order.Uint16(data[at:]))
	if at+2+12*entries > all {
		return errCutOff
	}
	for i := range entries {
		entry := data[at+2+12*i:]
		kind, count := order.Uint16(entry[2:]), uint64(order.Uint32(entry[4:]))
		if int(kind) >= len(sizes) {
			continue // a field of a kind that nobody has to know
		}
		if length := sizes[kind] * count; length > 4 && uint64(order.Uint32(entry[8:]))+length > all {
			return errCutOff
		}
	}
	return nil
}
