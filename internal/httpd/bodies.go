package httpd

import (
	"errors"
	"io"
	"net/http"
	"strings"
	"time"

	"warthesis/internal/work"
)

// bodyRate is the rate in bytes a second that is slow and honest.
const bodyRate = 16 << 10

// withDeadlines lets no body come for ever. The body of an upload may take as long
// as it likes while it does not stall: its door moves the deadline on. All others
// have one for the whole, also where nobody reads them: the server itself waits for
// what is left of a body before it takes the next request. It is as long as a sender
// may stall, and for a manifest what a slow line needs for the largest as well.
func withDeadlines(next http.Handler, idle time.Duration, manifestBytes int64) http.Handler {
	manifest := idle + time.Duration(manifestBytes/bodyRate)*time.Second
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.ContentLength == 0 {
			next.ServeHTTP(w, r)
			return
		}
		within := idle
		// Only pushes read a body that long: what a pull announces is waited for no longer than
		// anybody may stall.
		if r.Method == http.MethodPut && strings.HasPrefix(r.URL.Path, "/v2/") && !strings.Contains(r.URL.Path, "/blobs/uploads") {
			within = manifest
		}
		control := http.NewResponseController(w)
		// Where a connection takes none, it has gone.
		_ = control.SetReadDeadline(time.Now().Add(within))
		r.Body = &deadlineBody{r.Body, control}
		next.ServeHTTP(w, r)
	})
}

// withSigns lets the work beside requests know of each that comes, ends or brings bytes.
func withSigns(next http.Handler, budget *work.Budget) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !strings.HasPrefix(r.URL.Path, "/v2/") && !strings.HasPrefix(r.URL.Path, "/api/") {
			next.ServeHTTP(w, r)
			return
		}
		budget.Sign()
		defer budget.Sign()
		if r.ContentLength != 0 {
			r.Body = &signingBody{r.Body, budget}
		}
		next.ServeHTTP(w, r)
	})
}

// signingBody gives a sign whenever bytes come.
type signingBody struct {
	io.ReadCloser
	budget *work.Budget
}

// Read reads on.
func (b *signingBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	b.budget.Sign()
	return n, err
}

// deadlineBody takes the deadline away once all has come: from then on the
// connection is only watched for whether the sender is still there.
type deadlineBody struct {
	io.ReadCloser
	control *http.ResponseController
}

// Read reads on.
func (b *deadlineBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if errors.Is(err, io.EOF) {
		_ = b.control.SetReadDeadline(time.Time{})
	}
	return n, err
}
