// Command testlog reads what go test -json prints and shows a line a package
// and, of tests that failed, everything they said.
package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"os"
)

type event struct {
	Action, Package, Test, Output string
	Elapsed                       float64
}

func main() {
	said := map[string]string{}
	lines := bufio.NewScanner(os.Stdin)
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		var e event
		if json.Unmarshal(lines.Bytes(), &e) != nil {
			fmt.Println(lines.Text())
			continue
		}
		key := e.Package + " " + e.Test
		switch {
		case e.Action == "output", e.Action == "build-output":
			said[key] += e.Output
		case e.Action == "fail":
			fmt.Printf("FAIL %s %s (%.1f s)\n%s", e.Package, e.Test, e.Elapsed, said[key])
		case e.Action == "skip" && e.Test != "":
			fmt.Printf("skip %s %s\n%s", e.Package, e.Test, said[key])
		case e.Action == "pass" && e.Test == "":
			fmt.Printf("ok   %s %.1f s\n", e.Package, e.Elapsed)
		}
		if e.Test != "" && e.Action != "output" {
			delete(said, key)
		}
	}
}
