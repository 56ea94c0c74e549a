//go:build !linux

package node

// testify asks the system, which tells nothing here.
func testify() witness { return witness{kills: -1} }
