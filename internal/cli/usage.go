package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vexillum/internal/core/farm"
)

// between refuses fewer or more arguments, in words.
func between(least, most int, what string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) < least || len(args) > most {
			return usageError{fmt.Errorf("%s needs %s; see %s --help", c.CommandPath(), what, c.CommandPath())}
		}
		return nil
	}
}

// strictUsage makes every mistake in the arguments of a command and those below it a usage error,
// and suggests what was probably meant.
func strictUsage(c *cobra.Command) {
	for _, below := range c.Commands() {
		strictUsage(below)
	}
	check := c.Args
	if check == nil {
		return
	}
	c.Args = func(c *cobra.Command, args []string) error {
		err := check(c, args)
		if err == nil {
			return nil
		}
		if len(args) > 0 && c.HasSubCommands() {
			if near := nearest(c, args[0]); near != "" {
				return usageError{fmt.Errorf("%s has no command %q%s", c.CommandPath(), args[0], near)}
			}
		}
		if errors.As(err, new(usageError)) {
			return err
		}
		return usageError{fmt.Errorf("%w; see %s --help", err, c.CommandPath())}
	}
}

// nearest returns a question for the commands that somebody may have meant; "" if none is near.
func nearest(c *cobra.Command, word string) string {
	c.SuggestionsMinimumDistance = 2
	names := slices.DeleteFunc(c.SuggestionsFor(word), func(name string) bool {
		found, _, err := c.Find([]string{name})
		return err != nil || found.Hidden || !near(word, name)
	})
	if len(names) == 0 {
		return ""
	}
	return "; did you mean " + strings.Join(names[:min(3, len(names))], " or ") + "?"
}

// near reports whether word is the start of name, has the same letters in another order, or differs
// by one letter. Words further apart are unlikely to be what was meant.
func near(word, name string) bool {
	letters := func(text string) string {
		runes := []rune(text)
		slices.Sort(runes)
		return string(runes)
	}
	if strings.HasPrefix(name, word) || letters(word) == letters(name) {
		return true
	}
	same := 0 // at the beginning
	for same < min(len(word), len(name)) && word[same] == name[same] {
		same++
	}
	w, n := word[same:], name[same:]
	switch len(word) - len(name) {
	case 0:
		return w == "" || w[1:] == n[1:]
	case 1:
		return w[1:] == n
	case -1:
		return w == n[1:]
	}
	return false
}

// unknownCommand makes cobra's error about an unknown command one sentence with a suggestion.
func unknownCommand(root *cobra.Command, args []string, err error) error {
	if !strings.HasPrefix(err.Error(), "unknown command") {
		return err
	}
	for _, word := range args {
		if !strings.HasPrefix(word, "-") && strings.Contains(err.Error(), fmt.Sprintf("%q", word)) {
			near := nearest(root, word)
			if near == "" {
				near = "; see vexillum --help"
			}
			return usageError{fmt.Errorf("vexillum has no command %q%s", word, near)}
		}
	}
	return usageError{err}
}

// helpCommand shows the help of a command, and reports unknown commands as usage errors.
func helpCommand(root *cobra.Command) *cobra.Command {
	return &cobra.Command{
		Use: "help [COMMAND…]", Short: "Show the help of a command",
		RunE: func(_ *cobra.Command, args []string) error {
			found, rest, err := root.Find(args)
			switch {
			case err != nil:
				return unknownCommand(root, args, err)
			case len(rest) > 0 && found.HasSubCommands():
				return usageError{fmt.Errorf("%s has no command %q%s", found.CommandPath(), rest[0], nearest(found, rest[0]))}
			}
			found.InitDefaultHelpFlag()
			return found.Help()
		},
	}
}

// priorityFlag refuses a flag that names no priority before the service is asked.
func priorityFlag(c *cobra.Command) error {
	flag := c.Flags().Lookup("priority")
	if flag == nil || !flag.Changed {
		return nil
	}
	if _, err := farm.ParseLevel(flag.Value.String()); err != nil {
		return usageError{fmt.Errorf("--priority: %w", err)}
	}
	return nil
}
