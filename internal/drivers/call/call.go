// Package call sends requests to providers: it waits and asks again where that
// helps, bounds what it reads, and tells apart what can go wrong.
package call

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/sethvargo/go-retry"

	"bivium/core/limits"
	"bivium/internal/drivers"
)

// Client speaks with one endpoint.
type Client struct {
	base  *url.URL
	http  *http.Client
	Tries uint64        // how often a request is sent at most
	Pause time.Duration // before the second try; it doubles
	// Sign puts a credential on each request, just before it is sent.
	Sign func(*http.Request) error
}

// New returns a client of an endpoint that has been checked.
func New(endpoint string) (*Client, error) {
	base, err := CheckEndpoint(endpoint)
	if err != nil {
		return nil, err
	}
	dialer := &net.Dialer{Timeout: 10 * time.Second, Control: guard}
	return &Client{
		base: base, Tries: 5, Pause: 250 * time.Millisecond,
		http: &http.Client{
			Timeout:       time.Minute,
			Transport:     &http.Transport{DialContext: dialer.DialContext, TLSHandshakeTimeout: 10 * time.Second, MaxIdleConnsPerHost: 4},
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		},
	}, nil
}

// Get asks for what is at a path, with its query, and puts the answer into out.
func (c *Client) Get(ctx context.Context, path string, out any) (http.Header, error) {
	return c.send(ctx, http.MethodGet, path, nil, out)
}

// Post sends a body as JSON to a path, and puts the answer into out.
func (c *Client) Post(ctx context.Context, path string, body, out any) (http.Header, error) {
	sent, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	return c.send(ctx, http.MethodPost, path, sent, out)
}

// Put sends a body as JSON to replace what is at a path. Headers are sent with it.
func (c *Client) Put(ctx context.Context, path string, headers map[string]string, body, out any) (http.Header, error) {
	sent, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	return c.sendWith(ctx, http.MethodPut, path, headers, sent, out)
}

// Remove removes what is at a path. Headers are sent with it.
func (c *Client) Remove(ctx context.Context, path string, headers map[string]string) error {
	_, err := c.sendWith(ctx, http.MethodDelete, path, headers, nil, nil)
	return err
}

func (c *Client) send(ctx context.Context, method, path string, body []byte, out any) (http.Header, error) {
	return c.sendWith(ctx, method, path, nil, body, out)
}

func (c *Client) sendWith(ctx context.Context, method, path string, headers map[string]string, body []byte, out any) (header http.Header, err error) {
	backoff := retry.WithMaxRetries(c.Tries-1, retry.WithCappedDuration(20*time.Second, retry.WithJitterPercent(20, retry.NewExponential(c.Pause))))
	tries := 0
	err = retry.Do(ctx, backoff, func(ctx context.Context) error {
		header, err = c.once(ctx, method, path, headers, body, out)
		if tries++; tries > 1 && errors.Is(err, drivers.ErrChanged) {
			return fmt.Errorf("%w; %w", err, drivers.ErrTried)
		}
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return header, nil
}

// once sends a request, and marks what another try may fix.
func (c *Client) once(ctx context.Context, method, path string, headers map[string]string, body []byte, out any) (http.Header, error) {
	r, err := http.NewRequestWithContext(ctx, method, c.base.String()+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	for key, value := range headers {
		r.Header.Set(key, value)
	}
	if c.Sign != nil {
		if err := c.Sign(r); err != nil {
			return nil, err
		}
	}
	answer, err := c.http.Do(r)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, retry.RetryableError(fmt.Errorf("%w: %w", drivers.ErrUnreachable, err))
	}
	defer answer.Body.Close() //nolint:errcheck // it was read as far as it is wanted
	switch s := answer.StatusCode; {
	case s == http.StatusTooManyRequests || s >= 500:
		if err := wait(ctx, answer.Header.Get("Retry-After"), c.Pause); err != nil {
			return nil, err
		}
		return nil, retry.RetryableError(fmt.Errorf("%w, but for status %d", drivers.ErrUnreachable, s))
	case s == http.StatusUnauthorized || s == http.StatusForbidden:
		return nil, drivers.ErrCredential
	case s == http.StatusNotFound || s == http.StatusGone:
		return nil, drivers.ErrMissing
	case s == http.StatusConflict || s == http.StatusPreconditionFailed:
		return nil, drivers.ErrChanged
	case s == http.StatusRequestEntityTooLarge:
		return nil, &drivers.LimitError{Why: reasonIn(answer.Body)}
	case s == http.StatusNoContent:
		return answer.Header, nil
	case s != http.StatusOK:
		return nil, &drivers.AnswerError{Asked: path, Err: fmt.Errorf("unexpected status %d %s", s, reasonIn(answer.Body))}
	}
	read, err := io.ReadAll(io.LimitReader(answer.Body, limits.ProviderAnswer+1))
	switch {
	case err != nil && ctx.Err() != nil:
		return nil, ctx.Err()
	case err != nil:
		return nil, retry.RetryableError(&drivers.AnswerError{Asked: path, Err: fmt.Errorf("it is cut off: %w", err)})
	case len(read) > limits.ProviderAnswer:
		return nil, &drivers.AnswerError{Asked: path, Err: fmt.Errorf("it is longer than %d MiB", limits.ProviderAnswer>>20)}
	}
	if err := json.Unmarshal(read, out); err != nil {
		return nil, retry.RetryableError(&drivers.AnswerError{Asked: path, Err: err})
	}
	return answer.Header, nil
}

// reasonIn returns why a provider refuses something, which stands in the message or the error of a
// JSON answer, or is the answer.
func reasonIn(body io.Reader) string {
	why, _ := io.ReadAll(io.LimitReader(body, 500)) //nolint:errcheck // it is only told
	var said struct{ Message, Error string }
	if json.Unmarshal(why, &said) == nil && said.Message+said.Error != "" {
		return cmp.Or(said.Message, said.Error)
	}
	return string(bytes.TrimSpace(why))
}

// wait does as a Retry-After header asks, in seconds; with a client whose pauses
// are short, as those of tests are, it waits as little.
func wait(ctx context.Context, after string, pause time.Duration) error {
	seconds, err := strconv.Atoi(after)
	if err != nil || seconds <= 0 {
		return nil
	}
	d := min(time.Duration(seconds)*time.Second, limits.ProviderWait, 40*pause)
	select {
	case <-time.After(d):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
