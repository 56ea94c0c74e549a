package farm

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
)

// Pass is a part of every frame that a renderer writes beside the picture
// itself, as a file of its own: depth, a mask, one light.
type Pass struct {
	Name    string `json:"name"`
	Picture string `json:"picture"` // kind: png, jpeg, tiff, exr or data, of which nothing can be seen
	// of the names of its files; that of Picture when empty
	Ending   string `json:"ending,omitempty"`
	Optional bool   `json:"optional,omitempty"` // a frame without it is whole
}

// Data is the kind of files of which nothing can be seen.
const Data = "data"

// File is one of the files that make a frame.
type File struct {
	Pass  string `json:"pass"` // "" is the picture itself
	Hash  string `json:"hash"` // SHA-256, in hexadecimal
	Bytes int64  `json:"bytes"`
}

// FrameHash returns the hash by which a frame of several files is accepted,
// published and found again, all files together: the SHA-256 of a line
// "pass hash" for each file, in order. A frame of one file has that file's.
func FrameHash(files []File) string {
	if len(files) == 1 {
		return files[0].Hash
	}
	sum := sha256.New()
	for _, f := range files {
		fmt.Fprintf(sum, "%s %s\n", f.Pass, f.Hash)
	}
	return hex.EncodeToString(sum.Sum(nil))
}

// PassNames returns the names of the passes of a run, in order.
func (s Spec) PassNames() []string {
	names := make([]string, 0, len(s.Passes))
	for _, p := range s.Passes {
		names = append(names, p.Name)
	}
	return names
}

// CheckFiles looks whether the files that a node reports are those that a
// frame of the run is made of, and give its hash and size. A frame of one file
// needs no list.
func (s Spec) CheckFiles(files []File, hash string, bytes int64) error {
	if len(files) == 0 && !slices.ContainsFunc(s.Passes, func(p Pass) bool { return !p.Optional }) {
		return nil
	}
	var got, want []string
	var all int64
	for _, f := range files {
		got = append(got, f.Pass)
		all += f.Bytes
	}
	for i, name := range append([]string{""}, s.PassNames()...) {
		if i == 0 || !s.Passes[i-1].Optional || slices.Contains(got, name) {
			want = append(want, name)
		}
	}
	switch {
	case !slices.Equal(got, want):
		return fmt.Errorf("a frame of %s has the files %q, not %q", s.Name(), want, got)
	case FrameHash(files) != hash:
		return fmt.Errorf("the hash is not that of the frame's files")
	case all != bytes:
		return fmt.Errorf("the files have %d bytes together, not %d", all, bytes)
	}
	return nil
}

// endings of file names by picture format.
var endings = map[string]string{"png": ".png", "jpeg": ".jpg", "tiff": ".tif", "exr": ".exr"}

// ending returns the ending of the names of a pass's files.
func (s Spec) ending(pass string) string {
	if pass == "" {
		return cmp.Or(s.Ending, endings[s.Picture])
	}
	for _, p := range s.Passes {
		if p.Name == pass {
			return cmp.Or(p.Ending, endings[p.Picture])
		}
	}
	return ""
}
