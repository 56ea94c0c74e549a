// Package frames is the arithmetic of frame numbers: frame ranges as people
// type them, and sets of frames as the farm keeps them.
//
// It knows nothing of runs, nodes or files. Sets are values: no operation
// changes the set that it is called on, so they may be shared freely.
package frames
