// Package drill plays a described farm through the real dealer and judges the
// outcome: against the least time that any schedule needs, and against the
// ways in which people split work by hand. It reads no files; whoever reads a
// drill file brings it in the shape of a play.Farm.
package drill
