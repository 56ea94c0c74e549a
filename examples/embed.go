// Package examples holds the scenes of the made-up studio Pellmarsh, so that
// the demo farm can be started from the program alone.
package examples

import "embed"

// Pellmarsh is the folder pellmarsh with its scenes.
//
//go:embed pellmarsh
var Pellmarsh embed.FS
