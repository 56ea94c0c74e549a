package paths_test

import (
	"fmt"

	"vexillum/internal/core/paths"
)

// A path is kept once, and each machine spells it in its own way.
func Example() {
	for os, root := range map[string]string{"windows": `\\filer\scenes`} {
		fmt.Println(paths.Spell(os, root, "salt-clock/tex/wood.png"))
	}
	fmt.Println(paths.Check("tex/nul.png"))
	// Output:
	// \\filer\scenes\salt-clock\tex\wood.png
	// the path "tex/nul.png": "nul.png" is the name of a device on Windows
}
