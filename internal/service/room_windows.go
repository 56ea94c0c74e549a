package service

import (
	"path/filepath"
	"strings"
)

// oneDisk reports whether two folders are on the same volume.
func oneDisk(a, b string) bool {
	return strings.EqualFold(filepath.VolumeName(a), filepath.VolumeName(b))
}
