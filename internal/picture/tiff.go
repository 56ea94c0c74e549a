package picture

import (
	"encoding/binary"
	"errors"
	"io"
)

var errCutOff = errors.New("it is cut off")

// tiffWhole looks that everything a TIFF's first directory points to lies
// inside the file. The decoder itself reads only what the pixels need. The
// layout is that of TIFF 6.0, section 2.
func tiffWhole(file io.ReaderAt, size int64) error {
	read := func(at, n int64) ([]byte, error) {
		if at < 0 || at+n > size {
			return nil, errCutOff
		}
		out := make([]byte, n)
		if _, err := file.ReadAt(out, at); err != nil {
			return nil, cutOff(err)
		}
		return out, nil
	}
	head, err := read(0, 8)
	if err != nil {
		return err
	}
	var order binary.ByteOrder = binary.LittleEndian
	if head[0] == 'M' {
		order = binary.BigEndian
	}
	sizes := [...]int64{0, 1, 1, 2, 4, 8, 1, 1, 2, 4, 8, 4, 8} // bytes by field type
	at := int64(order.Uint32(head[4:]))
	count, err := read(at, 2)
	if err != nil {
		return err
	}
	entries, err := read(at+2, 12*int64(order.Uint16(count)))
	if err != nil {
		return err
	}
	for ; len(entries) > 0; entries = entries[12:] {
		kind, count := order.Uint16(entries[2:]), int64(order.Uint32(entries[4:]))
		if int(kind) >= len(sizes) {
			continue // a field of a kind that nobody has to know
		}
		if length := sizes[kind] * count; length > 4 && int64(order.Uint32(entries[8:]))+length > size {
			return errCutOff
		}
	}
	return nil
}
