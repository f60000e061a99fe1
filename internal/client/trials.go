package client

import (
	"context"
	"fmt"
	"net/http"

	"varnet/internal/contract"
)

// TrialSender returns by whom and how trial letters are sent.
func (c *Client) TrialSender(ctx context.Context) (s contract.TrialSender, err error) {
	return s, c.call(ctx, http.MethodGet, "/trial-letters/sender", nil, &s)
}

// SetTrialSender sets the sender of trial letters up.
func (c *Client) SetTrialSender(ctx context.Context, n contract.NewTrialSender) (s contract.TrialSender, err error) {
	return s, c.call(ctx, http.MethodPut, "/trial-letters/sender", n, &s)
}

// TestTrialSender tests whether hosts can tell that trial letters come from their sender.
func (c *Client) TestTrialSender(ctx context.Context) (s contract.TrialSender, err error) {
	return s, c.call(ctx, http.MethodPost, "/trial-letters/sender/test", nil, &s)
}

// AllowTrialLetters turns trial letters on or off.
func (c *Client) AllowTrialLetters(ctx context.Context, allowed bool) (s contract.TrialSender, err error) {
	return s, c.call(ctx, http.MethodPut, "/trial-letters/allowed", contract.TrialsAllowed{Allowed: allowed}, &s)
}

// ForecastTrialLetters returns what settling the catch-all addresses of a run by trial letters
// will take.
func (c *Client) ForecastTrialLetters(ctx context.Context, run int64) (f contract.TrialForecast, err error) {
	return f, c.call(ctx, http.MethodGet, fmt.Sprintf("/runs/%d/trial-letters", run), nil, &f)
}

// OrderTrialLetters sends trial letters to the catch-all addresses of a run. It takes a
// person's session.
func (c *Client) OrderTrialLetters(ctx context.Context, run int64, o contract.TrialOrder) (m contract.Mailing, err error) {
	return m, c.call(ctx, http.MethodPost, fmt.Sprintf("/runs/%d/trial-letters", run), o, &m)
}

// StopTrialLetters stops sending the trial letters of a mailing.
func (c *Client) StopTrialLetters(ctx context.Context, mailing int64) (m contract.Mailing, err error) {
	return m, c.call(ctx, http.MethodPost, fmt.Sprintf("/mailings/%d/stop", mailing), nil, &m)
}
