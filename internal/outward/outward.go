// Package outward makes the connections that lead to addresses which somebody gave:
// they are bounded in time and in what is read, and follow nobody elsewhere.
package outward

import (
	"io"
	"net/http"
	"time"
)

// Client returns a client that connects where the reach lets it, whose requests take as long
// as patience at most, answer included, and whose answers are read up to so many bytes. A
// redirect is the answer: what was meant for one address, a secret perhaps, goes to no other.
// It is safe for concurrent use.
func (r Reach) Client(patience time.Duration, bytes int64) *http.Client {
	transport := &http.Transport{
		Proxy: r.Proxy, DialContext: r.Dialer(), ForceAttemptHTTP2: true, MaxIdleConns: 20, IdleConnTimeout: time.Minute,
		TLSHandshakeTimeout: dialPatience, MaxResponseHeaderBytes: 64 << 10,
	}
	return &http.Client{
		Timeout:       patience,
		Transport:     bounded{transport, bytes},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

// bounded cuts answers that are too long.
type bounded struct {
	http.RoundTripper
	bytes int64
}

// RoundTrip sends a request and bounds the answer's body.
func (b bounded) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, err := b.RoundTripper.RoundTrip(r)
	if err == nil {
		answer.Body = struct {
			io.Reader
			io.Closer
		}{io.LimitReader(answer.Body, b.bytes), answer.Body}
	}
	return answer, err
}
