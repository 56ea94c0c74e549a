package trait_test

import (
	"fmt"

	"vexillum/internal/core/trait"
)

// What a run needs, and a node that does not have it.
func Example() {
	needs, err := trait.ParseExpression("rack && memory>=64 && !kiln")
	if err != nil {
		fmt.Println(err)
		return
	}
	node := trait.NewSet(trait.Trait{Name: "rack"}, trait.Trait{Name: "memory", Value: "32"})
	fmt.Println(needs.Matches(node), "as it lacks", needs.Missing(node))
	// Output: false as it lacks memory>=64
}
