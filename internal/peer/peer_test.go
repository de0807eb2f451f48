package peer

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/login"
	"warthesis/internal/oci"
)

var ctx = context.Background()

// other is a registry of another make, as odd as the standard allows. Each test
// scripts what it answers.
type other struct {
	mu    sync.Mutex
	calls []string
	serve http.HandlerFunc
}

func (o *other) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	o.mu.Lock()
	call := r.Method + " " + r.URL.RequestURI()
	if at := r.Header.Get("Range") + r.Header.Get("Content-Range"); at != "" {
		call += " " + at
	}
	o.calls = append(o.calls, call)
	o.mu.Unlock()
	o.serve(w, r)
}

func speakTo(t *testing.T, serve http.HandlerFunc) (*Client, *other) {
	o := &other{serve: serve}
	server := httptest.NewServer(o)
	t.Cleanup(server.Close)
	return New(strings.TrimPrefix(server.URL, "http://"), Options{Patience: 10 * time.Second}), o
}

var (
	raw    = []byte(`{"schemaVersion":2,"config":{"mediaType":"a/b","digest":"sha256:` + strings.Repeat("0", 64) + `","size":1}}`)
	digest = oci.DigestOf(oci.SHA256, raw)
	layer  = bytes.Repeat([]byte("sleeper "), 5000)
	wanted = oci.Descriptor{MediaType: oci.MediaTypeLayer, Digest: oci.DigestOf(oci.SHA256, layer), Size: int64(len(layer))}
)

func TestADigestIsFoundAlsoWhereHeadSaysLittleOrNothing(t *testing.T) {
	for name, head := range map[string]http.HandlerFunc{
		"no digest":   func(w http.ResponseWriter, _ *http.Request) { w.Header().Set("Content-Length", "5") },
		"not allowed": func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusMethodNotAllowed) },
		"not found":   func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNotFound) },
	} {
		c, _ := speakTo(t, func(w http.ResponseWriter, r *http.Request) {
			if r.Method == http.MethodHead {
				head(w, r)
				return
			}
			w.Header().Set("Content-Type", oci.MediaTypeImage)
			_, _ = w.Write(raw)
		})
		d, err := c.Resolve(ctx, "a", "latest")
		require.NoError(t, err, name)
		assert.Equal(t, digest, d.Digest, name)
	}
}

func TestWhatPassesIsTriedAgainAndWhatDoesNotIsNot(t *testing.T) {
	count := 0
	c, o := speakTo(t, func(w http.ResponseWriter, _ *http.Request) {
		if count++; count < 3 {
			w.Header().Set("Retry-After", "0")
			w.WriteHeader([]int{http.StatusTooManyRequests, http.StatusBadGateway}[count-1])
			return
		}
		_, _ = w.Write(raw)
	})
	_, _, err := c.Manifest(ctx, "a", "latest")
	require.NoError(t, err)
	assert.Len(t, o.calls, 3)

	c, o = speakTo(t, func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusForbidden)
		_, _ = io.WriteString(w, `{"errors":[{"code":"DENIED","message":"teodor may not read this"}]}`)
	})
	_, _, err = c.Manifest(ctx, "a", "latest")
	assert.ErrorIs(t, err, oci.CodeDenied)
	assert.ErrorContains(t, err, "teodor may not read this")
	assert.Len(t, o.calls, 2, "the first question and the one request")
}

func TestAManifestWithOtherBytesIsRefused(t *testing.T) {
	c, _ := speakTo(t, func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write(append([]byte(" "), raw...)) })
	_, _, err := c.Manifest(ctx, "a", digest.String())
	assert.ErrorIs(t, err, oci.CodeDigestInvalid)
}

func TestAnUploadThatBrokeSendsOnlyTheRest(t *testing.T) {
	const arrived = 15000
	c, o := speakTo(t, nil)
	puts := 0
	o.serve = func(w http.ResponseWriter, r *http.Request) {
		switch r.Method {
		case http.MethodPost:
			w.Header().Set("Location", "/elsewhere/session?state=1")
			w.WriteHeader(http.StatusAccepted)
		case http.MethodGet:
			w.Header().Set("Location", "/elsewhere/session?state=2")
			w.Header().Set("Range", fmt.Sprintf("0-%d", arrived-1))
			w.WriteHeader(http.StatusNoContent)
		case http.MethodPut:
			body, _ := io.ReadAll(r.Body)
			if puts++; puts == 1 {
				w.WriteHeader(http.StatusBadGateway)
				return
			}
			assert.Equal(t, layer[arrived:], body)
			w.WriteHeader(http.StatusCreated)
		}
	}
	outcome, err := c.PushBlob(ctx, "a", wanted, bytes.NewReader(layer), nil)
	require.NoError(t, err)
	assert.Equal(t, Sent, outcome)
	last := o.calls[len(o.calls)-1]
	assert.Contains(t, last, "state=2", "the newest address is used, with what it carries")
	assert.Contains(t, last, fmt.Sprintf("%d-%d", arrived, len(layer)-1))
}

func TestABlobWhoseLastAnswerWasLostIsNotSentAgain(t *testing.T) {
	c, o := speakTo(t, func(w http.ResponseWriter, r *http.Request) {
		switch r.Method {
		case http.MethodPost:
			w.Header().Set("Location", "/session")
			w.WriteHeader(http.StatusAccepted)
		case http.MethodPut:
			_, _ = io.Copy(io.Discard, r.Body)
			w.WriteHeader(http.StatusGatewayTimeout)
		case http.MethodGet:
			w.WriteHeader(http.StatusNotFound)
		}
	})
	_, err := c.PushBlob(ctx, "a", wanted, bytes.NewReader(layer), nil)
	require.NoError(t, err)
	puts := 0
	for _, call := range o.calls {
		if strings.HasPrefix(call, http.MethodPut) {
			puts++
		}
	}
	assert.Equal(t, 1, puts, "%v", o.calls)
}

func TestMountingIsTriedAndDoneWithoutWhereItIsNotKnown(t *testing.T) {
	c, _ := speakTo(t, func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(http.StatusCreated) })
	outcome, err := c.PushBlob(ctx, "a", wanted, bytes.NewReader(layer), nil)
	require.NoError(t, err)
	assert.Equal(t, Mounted, outcome)

	c, _ = speakTo(t, func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Query().Get("mount") != "":
			w.WriteHeader(http.StatusBadRequest)
		case r.Method == http.MethodPost:
			w.Header().Set("Location", "/session")
			w.WriteHeader(http.StatusAccepted)
		default:
			w.WriteHeader(http.StatusCreated)
		}
	})
	outcome, err = c.PushBlob(ctx, "a", wanted, bytes.NewReader(layer), nil)
	require.NoError(t, err)
	assert.Equal(t, Sent, outcome)
}

// kept is a receiver in memory.
type kept struct{ bytes.Buffer }

func (k *kept) Offset() int64  { return int64(k.Len()) }
func (k *kept) Restart() error { k.Reset(); return nil }
func (k *kept) Close() error   { return nil }
func (k *kept) Commit() error {
	if oci.DigestOf(oci.SHA256, k.Bytes()) != wanted.Digest {
		return oci.CodeDigestInvalid
	}
	return nil
}

func TestADownloadGoesOnAlsoWhereRangesAreNotServedAndBlobsLieElsewhere(t *testing.T) {
	store := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		// Another host, as object storage is: it serves the whole, whatever is asked.
		_, _ = w.Write(layer)
	}))
	defer store.Close()
	c, _ := speakTo(t, func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, store.URL+"/blob", http.StatusTemporaryRedirect)
	})
	to := &kept{}
	to.WriteString("half of something")
	require.NoError(t, c.PullBlob(ctx, "a", wanted, to, nil))
	assert.Equal(t, layer, to.Bytes())
}

func TestMoreBytesThanAnnouncedAreNotTaken(t *testing.T) {
	c, _ := speakTo(t, func(w http.ResponseWriter, r *http.Request) {
		for range 100 {
			_, _ = w.Write(layer)
		}
	})
	to := &kept{}
	assert.ErrorIs(t, c.PullBlob(ctx, "a", wanted, to, nil), oci.CodeDigestInvalid)
	assert.LessOrEqual(t, to.Len(), len(layer)+1)
}

// A registry asks for a token, which is got once for all that goes on side by side;
// nothing of a login travels to where a blob lies elsewhere.
func TestALoginIsDoneOnceAndDoesNotTravelAlong(t *testing.T) {
	var elsewhere []string
	var mu sync.Mutex
	store := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		elsewhere = append(elsewhere, r.Header.Get("Authorization"))
		mu.Unlock()
		_, _ = w.Write(layer)
	}))
	defer store.Close()
	var address string
	_, o := speakTo(t, nil)
	o.serve = func(w http.ResponseWriter, r *http.Request) {
		account, secret, _ := r.BasicAuth()
		switch {
		case r.URL.Path == "/token" && account == "ci" && secret == "s":
			fmt.Fprintf(w, `{"access_token":"for %s","expires_in":300}`, r.URL.Query().Get("scope"))
		case r.URL.Path == "/token":
			w.WriteHeader(http.StatusUnauthorized)
		case r.Header.Get("Authorization") != "Bearer for repository:a/b:pull":
			w.Header().Set("WWW-Authenticate", `Bearer realm="http://`+address+`/token",service="s"`)
			w.WriteHeader(http.StatusUnauthorized)
		default:
			http.Redirect(w, r, store.URL, http.StatusTemporaryRedirect)
		}
	}
	server := httptest.NewServer(o)
	defer server.Close()
	address = strings.TrimPrefix(server.URL, "http://")
	as := func(secret string) *Client {
		return New(address, Options{Patience: time.Second, Credentials: func(context.Context) (login.Credentials, error) {
			return login.Credentials{Account: "ci", Secret: secret, From: "the test"}, nil
		}})
	}
	c := as("s")
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() { assert.NoError(t, c.PullBlob(ctx, "a/b", wanted, &kept{}, nil)) })
	}
	all.Wait()
	assert.Len(t, o.calls, 2+8, "one question, one token, and the blobs")
	assert.Len(t, elsewhere, 8)
	for _, header := range elsewhere {
		assert.Empty(t, header)
	}
	err := as("wrong").PullBlob(ctx, "a/b", wanted, &kept{}, nil)
	assert.ErrorIs(t, err, oci.CodeUnauthorized)
	assert.ErrorContains(t, err, "does not take the login of ci (the test)")

	// A token is not fetched unencrypted for a registry that is encrypted.
	secure := New("registry.larkspur.example", Options{})
	_, err = secure.answerChallenge(ctx, challenge{"bearer", map[string]string{"realm": "http://registry.larkspur.example/token"}}, "")
	assert.ErrorContains(t, err, "unencrypted")
}
