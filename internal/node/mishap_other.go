//go:build !linux

package node

// testify asks the system, which reports nothing here.
func testify() witness { return witness{kills: -1} }
