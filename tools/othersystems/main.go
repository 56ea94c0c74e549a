// Command othersystems type-checks the program for the systems that studios
// have and this machine is not. It compiles nothing: all is read from source,
// and only our own functions are looked into, so it takes seconds where builds
// take minutes.
package main

import (
	"fmt"
	"os"
	"strings"

	"golang.org/x/tools/go/packages"
)

func main() {
	failed := false
	for _, target := range os.Args[1:] {
		system, arch, _ := strings.Cut(target, "/")
		found, err := packages.Load(&packages.Config{
			Mode: packages.LoadAllSyntax,
			Env:  append(os.Environ(), "GOOS="+system, "GOARCH="+arch, "CGO_ENABLED=0"),
		}, "./cmd/...", "./internal/...")
		if err != nil {
			fmt.Fprintf(os.Stderr, "othersystems: reading the program for %s: %v\n", target, err)
			os.Exit(1)
		}
		for _, p := range found {
			for _, e := range p.Errors {
				failed = true
				fmt.Fprintf(os.Stderr, "%s: %v\n", target, e)
			}
		}
	}
	if failed {
		os.Exit(1)
	}
}
