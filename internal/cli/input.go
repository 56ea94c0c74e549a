package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"

	"vexillum/internal/plainfile"
	"vexillum/internal/plainyaml"
)

// noFileError names a file that is not there.
type noFileError string

func (e noFileError) Error() string { return "there is no file " + string(e) }

// Unwrap returns fs.ErrNotExist.
func (noFileError) Unwrap() error { return fs.ErrNotExist }

// readInput reads a file that a command names, or standard input for -. What says what it
// ought to be, such as "a recipe file".
func readInput(name, what string) ([]byte, error) {
	if name == "" {
		return nil, usageError{fmt.Errorf("the name of the file is empty; name %s, or - for standard input", what)}
	}
	if name == "-" {
		data, err := io.ReadAll(io.LimitReader(os.Stdin, plainyaml.MostBytes+1))
		if err != nil {
			return nil, fmt.Errorf("reading standard input: %w", err)
		}
		return data, nil // what is too long its own reader refuses
	}
	info, err := os.Stat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, noFileError(name)
	case err == nil && info.IsDir():
		return nil, fmt.Errorf("%s is a folder; name %s in it", name, what)
	}
	return plainfile.Read(name, plainyaml.MostBytes)
}
