package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

func (a *app) signInCommand() *cobra.Command {
	var name, passwordFile, label string
	var days int
	c := &cobra.Command{
		Use:   "sign-in URL [URL...]",
		Short: "Sign in and keep a token for this command line",
		Args:  atLeast(1, "the address of the service, or of each service of the farm"),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := client.New(strings.Join(args, ","), "")
			if err != nil {
				return usageError{err}
			}
			password, err := readPassword(passwordFile)
			if err != nil {
				return err
			}
			path, err := a.accessFile()
			if err != nil {
				return err
			}
			if label == "" {
				host, _ := os.Hostname()
				label = "command line on " + host
			}
			me, err := signIn(
				c.Context(), cl, wire.SignIn{Name: name, Password: password, Label: label, Seconds: days * 24 * 3600},
				path,
			)
			var p *wire.Problem
			if errors.As(err, &p) && p.Status == http.StatusUnauthorized && !c.Flags().Changed("name") {
				return fmt.Errorf("%w; you are taken to be %s; say otherwise with --name", err, cmp.Or(name, "nobody"))
			}
			if err != nil {
				return err
			}
			fmt.Fprintf(
				a.out, "Signed in to %s as %s (%s). The token is kept in %s and is good for %d days.\n", cl.Address(),
				me.Name, me.Role, path, days,
			)
			return nil
		},
	}
	c.Flags().StringVar(&name, "name", os.Getenv("USER"), "who you are")
	c.Flags().StringVar(&passwordFile, "password-file", "", "file with the password (default: asked for)")
	c.Flags().StringVar(&label, "label", "", "a name for the token (default: command line on this machine)")
	c.Flags().IntVar(&days, "days", 90, "how long the token is good")
	return c
}

// Of a service that has just been started: how long it is waited for, and how often
// it is asked.
const (
	signInPatience = 10 * time.Second
	signInPause    = 200 * time.Millisecond
)

// signIn gets a token and keeps it in a file that only its owner may read.
func signIn(ctx context.Context, c *client.Client, in wire.SignIn, path string) (wire.Me, error) {
	var me wire.Me
	for until := time.Now().Add(signInPatience); ; {
		err := c.Do(ctx, http.MethodPost, "/api/v1/session", in, &me)
		var p *wire.Problem
		if err == nil {
			break
		}
		if !errors.As(err, &p) || p.Status != http.StatusServiceUnavailable || time.Now().After(until) ||
			ctx.Err() != nil {
			return me, err
		}
		time.Sleep(signInPause) // it has just been started, and reads its records
	}
	data, err := json.MarshalIndent(access{Service: c.Addresses(), Name: me.Name, Token: me.Token}, "", "  ")
	if err != nil {
		return me, err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return me, fmt.Errorf("keeping the token: %w", err)
	}
	if err := os.WriteFile(path, append(data, '\n'), 0o600); err != nil {
		return me, fmt.Errorf("keeping the token: %w", err)
	}
	return me, nil
}

// passwordCommand gives the person who asks a new password.
func (a *app) passwordCommand() *cobra.Command {
	var oldFile, newFile string
	c := &cobra.Command{
		Use: "password", Short: "Change your own password; other sessions and tokens of yours end",
		Args: exactly(0, "no arguments"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, _ []string) error {
			var in wire.NewPassword
			var err error
			if in.Old, err = askPassword(oldFile, "--old-file", "Old password: "); err != nil {
				return err
			}
			if in.New, err = askPassword(newFile, "--new-file", "New password: "); err != nil {
				return err
			}
			if err := cl.Do(ctx, http.MethodPut, "/api/v1/me/password", in, nil); err != nil {
				return err
			}
			fmt.Fprintln(a.out, "Your password is changed; your other sessions and tokens have ended.")
			return nil
		}),
	}
	c.Flags().StringVar(&oldFile, "old-file", "", "file with the old password (default: asked for)")
	c.Flags().StringVar(&newFile, "new-file", "", "file with the new password (default: asked for)")
	return c
}

// tokenCommand lists and revokes tokens.
func (a *app) tokenCommand() *cobra.Command {
	parent := &cobra.Command{Use: "token", Short: "List and revoke tokens and sessions"}
	var all bool
	tokens := a.jsonFlag(&cobra.Command{
		Use:   "list",
		Short: "List what is signed in as you: tokens of command lines and pipelines, and sessions of browsers",
		Args:  exactly(0, "no arguments"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, _ []string) error {
			tokens, err := get[[]wire.Token](ctx, cl, fmt.Sprintf("/api/v1/tokens?all=%t", all))
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(tokens)
			}
			now := time.Now()
			t := newTable(a.out, "TOKEN", "OF", "KIND", "LABEL", zoned("MADE"), zoned("LAST USED"), "ENDS")
			for _, k := range tokens {
				used, ends, label := "–", "–", k.Label
				if k.UsedAt != nil {
					used = clock(*k.UsedAt, now)
				}
				if k.ExpiresAt != nil {
					ends = k.ExpiresAt.Local().Format(time.DateOnly)
				}
				if k.This {
					label += " (this one)"
				}
				t.add(k.ID, k.Person, k.Kind, label, clock(k.CreatedAt, now), used, ends)
			}
			t.print()
			return nil
		}),
	})
	tokens.Flags().BoolVar(&all, "all", false, "of everybody (admins only)")
	revoke := &cobra.Command{
		Use: "revoke TOKEN", Short: "Shut out a token or session at once", Args: exactly(
			1, "the id of a token, as vexillum token list shows it",
		),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			if err := cl.Do(ctx, http.MethodDelete, "/api/v1/tokens/"+url.PathEscape(args[0]), nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "token %s is shut out\n", args[0])
			return nil
		}),
	}
	parent.AddCommand(tokens, revoke)
	return parent
}

func readPassword(file string) (string, error) {
	return askPassword(file, "--password-file", "Password: ")
}

// askPassword reads a password from a file, from standard input for "-", or from
// the terminal.
func askPassword(file, flag, prompt string) (string, error) {
	if file != "" {
		data, err := readSecret(file)
		if err != nil {
			return "", fmt.Errorf("reading the password: %w", err)
		}
		return strings.TrimSpace(string(data)), nil
	}
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return "", usageError{errors.New("there is no terminal to ask for the password; give " + flag)}
	}
	fmt.Fprint(os.Stderr, prompt)
	data, err := term.ReadPassword(int(os.Stdin.Fd()))
	fmt.Fprintln(os.Stderr)
	return string(data), err
}

// readSecret reads a secret from a file, or from standard input for "-": it shall
// not stand in a list of processes.
func readSecret(file string) ([]byte, error) {
	if file == "-" {
		return io.ReadAll(io.LimitReader(os.Stdin, 4096))
	}
	return os.ReadFile(file)
}
