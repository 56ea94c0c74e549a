//go:build unix && !linux

package launcher

// MemoryMeans says how renderers are held to a limit of memory: they are told
// of it.
func MemoryMeans() string { return "told" }
