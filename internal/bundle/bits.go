package bundle

import (
	"encoding/base64"
	"fmt"
)

// Packed writes which pieces there are as they travel: a bit for each, the first in
// the lowest of the first byte, in base64.
func Packed(have []bool) string {
	out := make([]byte, (len(have)+7)/8)
	for i, has := range have {
		if has {
			out[i/8] |= 1 << (i % 8)
		}
	}
	return base64.StdEncoding.EncodeToString(out)
}

// Unpacked reads what [Packed] writes.
func Unpacked(text string, count int) ([]bool, error) {
	data, err := base64.StdEncoding.DecodeString(text)
	if err != nil || len(data) != (count+7)/8 {
		return nil, fmt.Errorf("the bits are not those of %d pieces", count)
	}
	out := make([]bool, count)
	for i := range out {
		out[i] = data[i/8]>>(i%8)&1 == 1
	}
	return out, nil
}
