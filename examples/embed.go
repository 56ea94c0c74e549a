// Package examples holds the scenes, jobs and recipes of the made-up studio Pellmarsh, so that
// the demo farm can be started from the program alone.
package examples

import "embed"

// Pellmarsh is the folder pellmarsh with its scenes, jobs and recipes.
//
//go:embed pellmarsh
var Pellmarsh embed.FS
