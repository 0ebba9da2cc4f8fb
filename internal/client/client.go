// Package client asks a Bivium server over HTTP, as commands do.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"strings"
	"time"

	"bivium/internal/app/view"
)

// patience is how long an answer is waited for.
const patience = 2 * time.Minute

// Client is a server that is asked as one person. It is safe for concurrent use.
type Client struct {
	address string
	token   string
	http    *http.Client
}

// New returns a client of a server at an address, such as https://bivium.example, that acts for the
// person of a token.
func New(address, token string) *Client {
	return &Client{strings.TrimSuffix(address, "/"), token, &http.Client{Timeout: patience}}
}

// SignIn returns a client that acts for somebody who signed in with a password.
func SignIn(ctx context.Context, address, person, password string) (*Client, error) {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return nil, err
	}
	c := &Client{strings.TrimSuffix(address, "/"), "", &http.Client{Timeout: patience, Jar: jar}}
	return c, c.Send(ctx, http.MethodPost, "/api/sign-in", map[string]string{"name": person, "password": password}, nil)
}

// Send sends a request with a body as JSON, nil for none, and headers in pairs, and decodes the
// answer into out unless that is nil. What the server says went wrong is the error.
func (c *Client) Send(ctx context.Context, method, path string, body, out any, header ...string) error {
	answer, err := c.open(ctx, method, c.address+path, body, header...)
	if err != nil {
		return err
	}
	read, err := io.ReadAll(answer.Body)
	if err := errors.Join(err, answer.Body.Close()); err != nil {
		return err
	}
	if answer.StatusCode >= http.StatusMultipleChoices {
		return problemOf(answer.Status, read)
	}
	if out == nil {
		return nil
	}
	return json.Unmarshal(read, out)
}

// Download returns what is at an address of the server, of so many bytes at most and one more.
func (c *Client) Download(ctx context.Context, address string, most int64) ([]byte, error) {
	answer, err := c.open(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close() //nolint:errcheck // it was read
	text, err := io.ReadAll(io.LimitReader(answer.Body, most+1))
	if err != nil {
		return nil, fmt.Errorf("the answer of the server broke off: %w", err)
	}
	if answer.StatusCode >= http.StatusMultipleChoices {
		return nil, problemOf(answer.Status, text)
	}
	return text, nil
}

func (c *Client) open(ctx context.Context, method, address string, body any, header ...string) (*http.Response, error) {
	var text []byte
	if body != nil {
		var err error
		if text, err = json.Marshal(body); err != nil {
			return nil, err
		}
	}
	request, err := http.NewRequestWithContext(ctx, method, address, bytes.NewReader(text))
	if err != nil {
		return nil, fmt.Errorf("--server %s: %w", address, err)
	}
	request.Header.Set("Content-Type", "application/json")
	if c.token != "" {
		request.Header.Set("Authorization", "Bearer "+c.token)
	} else {
		request.Header.Set("Origin", c.address)
	}
	for i := 0; i+1 < len(header); i += 2 {
		request.Header.Set(header[i], header[i+1])
	}
	answer, err := c.http.Do(request)
	if err != nil {
		return nil, fmt.Errorf("the server cannot be reached: %w", err)
	}
	return answer, nil
}

// problemOf returns what a server says went wrong.
func problemOf(status string, body []byte) error {
	var p struct {
		Title, Detail string
		Problems      []view.Problem
	}
	if json.Unmarshal(body, &p) != nil || p.Title == "" {
		return fmt.Errorf("the server answered %s", status)
	}
	text := p.Title
	if p.Detail != "" {
		text += ": " + p.Detail
	}
	for _, one := range p.Problems {
		if one.Message != p.Title {
			text += "\n" + one.Message
		}
		if one.Fix != "" {
			text += "; " + one.Fix
		}
	}
	return errors.New(text)
}
