package main

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"bivium/internal/client"
	"bivium/internal/people"
)

func tokenCommand() *cobra.Command {
	var address, person, name, role string
	var days int
	c := &cobra.Command{
		Use:   "token --person NAME --for PURPOSE",
		Short: "Make a token for scripts on a server, and print it",
		Long: "The password of the person is asked for, or read from standard input. The token is printed this once; put it\n" +
			"into " + tokenVariable + ". People who sign in with their company's account make tokens in the browser.",
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if person == "" || name == "" {
				return fmt.Errorf("name the person with --person, and what the token is for with --for")
			}
			password, err := readPassword(c)
			if err != nil {
				return err
			}
			s, err := client.SignIn(c.Context(), address, person, password)
			if err != nil {
				return err
			}
			var made struct {
				Secret string `json:"secret"`
			}
			body := map[string]string{"name": name, "role": role, "ends": time.Now().AddDate(0, 0, days).Format(time.DateOnly)}
			if err := s.Send(c.Context(), http.MethodPost, "/api/tokens", body, &made); err != nil {
				return err
			}
			if err := s.Send(c.Context(), http.MethodPost, "/api/sign-out", map[string]string{}, nil); err != nil {
				return err
			}
			fmt.Fprintln(c.OutOrStdout(), made.Secret)
			return nil
		},
	}
	c.Flags().StringVar(&address, "server", "http://127.0.0.1:8420", "the `URL` of the server")
	c.Flags().StringVar(&person, "person", "", "the `NAME` of the person for whom the token acts")
	c.Flags().StringVar(&name, "for", "", "`WHAT` the token is for")
	c.Flags().StringVar(&role, "role", string(people.Viewer), "the `ROLE` that it has, one of the person's")
	c.Flags().IntVar(&days, "days", 90, "after how many days `N` it ends")
	return c
}

// readPassword asks for a password, or reads a line of standard input where that is no terminal.
func readPassword(c *cobra.Command) (string, error) {
	if in, is := c.InOrStdin().(*os.File); is && term.IsTerminal(int(in.Fd())) {
		fmt.Fprint(c.ErrOrStderr(), "Password: ")
		text, err := term.ReadPassword(int(in.Fd()))
		fmt.Fprintln(c.ErrOrStderr())
		return string(text), err
	}
	line, err := bufio.NewReader(c.InOrStdin()).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return "", err
	}
	if line = strings.TrimRight(line, "\r\n"); line == "" {
		return "", fmt.Errorf("there is no password; type it, or give it on standard input")
	}
	return line, nil
}
